import { ChangeDetectionStrategy, Component, computed, effect, signal, untracked } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { RouterLink } from '@angular/router';
import type { BodyInput, StorageUse } from '@lithodex/contract';
import { countOf, formatBytes, formatPrice, keptPrice, restorePrice, usePrice } from '@lithodex/core';
import type { BucketPrices } from '@lithodex/kinds';
import { of, switchMap } from 'rxjs';
import { outcome, type Outcome } from '../data/outcome';
import { formatPipes } from '../ui/format-pipes';
import { ConnectedSystem } from './connected-system';
import { ReadBy } from './read-by';
import { TestedRights } from './tested-rights';

const usual: BucketPrices = { currency: 'EUR', perGbMonth: 0.022, perGbRead: 0, perThousandLists: 0.005, perThousandReads: 0.0004 };

const priceFields = [
  { label: 'GB kept for a month', key: 'perGbMonth' },
  { label: 'GB read', key: 'perGbRead' },
  { label: '1000 listings or writes', key: 'perThousandLists' },
  { label: '1000 reads', key: 'perThousandReads' },
] as const satisfies readonly { readonly label: string; readonly key: keyof BucketPrices }[];

/** The connection to an object storage, whose buckets are protected. */
@Component({
  selector: 'lx-object-storage-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, ReadBy, RouterLink, TestedRights, ...formatPipes],
  templateUrl: './object-storage-page.html',
  styleUrls: ['./connection-page.scss', './tenant-page.scss', './object-storage-page.scss'],
})
export class ObjectStoragePage extends ConnectedSystem {
  protected readonly endpoint = signal('');
  protected readonly region = signal('us-east-1');
  protected readonly accessKey = signal('');
  protected readonly secretKey = signal('');
  /** Names of buckets, one a line. */
  protected readonly named = signal('');
  protected readonly accessLists = signal(false);
  protected readonly versions = signal(false);
  protected readonly priceFields = priceFields;
  /** What it costs, as it stands in the fields; null where nobody says. */
  protected readonly prices = signal<BucketPrices | null>(null);
  private readonly used = toSignal(
    toObservable(computed(() => this.known()?.id)).pipe(
      switchMap((id) => (id === undefined ? of<Outcome<StorageUse>>({}) : this.api.call('storageUse', { id }).pipe(outcome<StorageUse>()))),
    ),
  );
  protected readonly use = computed(() => this.used()?.value);
  protected readonly bill = computed(() => {
    const [use, prices] = [this.use(), this.prices()];
    if (!use || !prices) return undefined;
    const price = (amount: number) => formatPrice(amount, prices.currency);
    const looking = usePrice({ ...use.looking, reads: 0, bytes: 0 }, prices);
    const rows = use.rows.map((r) => ({
      name: r.workload.name,
      id: r.workload.id,
      asked: `${countOf(r.runs, 'run')}: ${countOf(r.lists, 'page')}, ${countOf(r.reads + r.facts, 'other request')}, ${formatBytes(r.bytes)}`,
      runs: price(usePrice(r, prices)),
      kept: price(keptPrice(r.holds.bytes, prices)),
      restore: price(restorePrice(r.holds.objects, prices)),
    }));
    const all = use.rows.reduce((sum, r) => sum + usePrice(r, prices), looking);
    return { days: use.days, rows, looking: price(looking), all: price(all) };
  });
  protected readonly authority = signal('');

  constructor() {
    super();
    effect(() => {
      const known = this.known();
      const address = known?.address;
      if (address?.kind !== 'bucket' || !known) return;
      untracked(() => {
        this.name.set(known.name);
        this.location.set(known.location);
        this.readBy.set(known.readBy);
        this.endpoint.set(address.endpoint);
        this.region.set(address.region);
        this.accessKey.set(address.accessKey);
        this.named.set(address.buckets.join('\n'));
        this.accessLists.set(address.accessLists);
        this.versions.set(address.versions);
        this.prices.set(address.prices);
        this.authority.set(address.authority ?? '');
      });
    });
  }

  protected said(): Pick<BodyInput<'addSystem'>, 'address' | 'secret'> {
    return {
      address: {
        kind: 'bucket',
        endpoint: this.endpoint().trim(),
        region: this.region().trim(),
        accessKey: this.accessKey().trim(),
        buckets: this.named()
          .split(/[\s,;]+/)
          .filter(Boolean),
        accessLists: this.accessLists(),
        versions: this.versions(),
        prices: this.prices(),
        authority: this.authority().trim() || null,
      },
      secret: this.secretKey() || null,
    };
  }

  protected saysPrices(on: boolean): void {
    this.prices.set(on ? usual : null);
  }

  protected setPrice(key: keyof BucketPrices, value: string | number): void {
    this.prices.update((p) => p && { ...p, [key]: value });
  }

  protected ready(): boolean {
    const said = [this.name(), this.region(), this.accessKey()].every((text) => text.trim() !== '');
    return said && /^https?:\/\/./.test(this.endpoint().trim()) && (this.secretKey() !== '' || this.known() !== undefined);
  }
}

import { ChangeDetectionStrategy, Component, effect, signal, untracked } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { RouterLink } from '@angular/router';
import type { BodyInput } from '@lithodex/contract';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';
import { ConnectedSystem } from './connected-system';
import { ReadBy } from './read-by';

/** The connection to an object storage, whose buckets are protected. */
@Component({
  selector: 'lx-object-storage-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, ReadBy, RouterLink, StateMark, ...formatPipes],
  templateUrl: './object-storage-page.html',
  styleUrls: ['./connection-page.scss', './tenant-page.scss'],
})
export class ObjectStoragePage extends ConnectedSystem {
  protected readonly endpoint = signal('');
  protected readonly region = signal('us-east-1');
  protected readonly accessKey = signal('');
  protected readonly secretKey = signal('');
  /** Names of buckets, one a line. */
  protected readonly only = signal('');
  protected readonly accessLists = signal(false);
  protected readonly versions = signal(false);
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
        this.only.set(address.buckets.join('\n'));
        this.accessLists.set(address.accessLists);
        this.versions.set(address.versions);
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
        buckets: this.only()
          .split(/[\s,;]+/)
          .filter(Boolean),
        accessLists: this.accessLists(),
        versions: this.versions(),
        authority: this.authority().trim() || null,
      },
      secret: this.secretKey() || null,
    };
  }

  protected ready(): boolean {
    const said = [this.name(), this.region(), this.accessKey()].every((text) => text.trim() !== '');
    return said && /^https?:\/\/./.test(this.endpoint().trim()) && (this.secretKey() !== '' || this.known() !== undefined);
  }
}

import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { CopiesMatrix, Target, TargetPlace, TargetTest } from '@lithodex/contract';
import { formatPrice, monthlyPrice } from '@lithodex/core';
import type { Observable } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';
import { followEvery } from './other-owner';
import { kindOf, whereIs } from './place-words';

/** The targets: how full, how much smaller, and their key envelopes. */
@Component({
  selector: 'lx-storage-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, FormDialog, StateMark, ...formatPipes],
  templateUrl: './storage-page.html',
  styles:
    ':host { display: block; height: 100%; } .t { padding: 14px 18px; display: flex; flex-direction: column; gap: 10px; } .bar { height: 12px; border-radius: 4px; background: var(--hush); overflow: hidden; } .bar i { display: block; height: 100%; background: var(--incremental); } .two { display: grid; grid-template-columns: 1fr 1fr; gap: 12px; } .need { display: flex; gap: 8px; font-size: 13px; } form { display: flex; flex-direction: column; gap: 12px; } .matrix td { white-space: normal; } .lock { color: var(--locked); margin-left: 6px; } label { display: flex; flex-direction: column; gap: 3px; font-size: 13px; font-weight: 600; }',
})
export class StoragePage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  private readonly live = inject(Live);
  private readonly result = toSignal(
    this.live.reloading(
      () => this.api.call('listTargets').pipe(outcome()),
      (e) => e.kind === 'point' || e.kind === 'estate' || e.kind === 'room',
      3000,
    ),
  );
  protected readonly failure = computed(() => this.result()?.failure);
  protected readonly targets = computed(() => this.result()?.value?.rows);
  private readonly matrixResult = toSignal(
    this.live.reloading(
      () => this.api.call('copiesMatrix').pipe(outcome<CopiesMatrix>()),
      (e) => e.kind === 'point' || e.kind === 'estate',
      3000,
    ),
  );
  protected readonly matrix = computed(() => this.matrixResult()?.value);
  protected readonly adding = signal(false);
  protected readonly sealing = signal<Target | null>(null);
  protected readonly pruning = signal<Target | null>(null);
  protected readonly tested = signal<TargetTest | undefined>(undefined);
  protected readonly problem = signal('');
  protected readonly busy = signal(false);
  protected name = '';
  protected folder = '';
  protected readonly kind = signal<TargetPlace['kind']>('folder');
  protected readonly kinds = [
    { value: 'folder', text: 'a disk folder' },
    { value: 'bucket', text: 'a bucket (S3 protocol)' },
    { value: 'cartridges', text: 'cartridges in a library' },
  ] as const;
  protected bucket = { endpoint: '', region: '', bucket: '', prefix: '', accessKey: '', secretKey: '' };
  protected library = { endpoint: '', token: '', barcodes: '', folder: '' };
  protected location = '';
  protected passphrase = '';

  protected share(t: Target): number {
    return t.used !== null && t.free !== null ? (t.used / Math.max(1, t.used + t.free)) * 100 : 0;
  }

  /** Month and year of a fill date. */
  protected month(at: number | null): string {
    return at === null || at - this.session.now() > 10 * 365 * 86_400_000
      ? 'not in ten years'
      : new Date(at).toLocaleDateString('en-GB', { timeZone: this.session.zone(), month: 'short', year: 'numeric' });
  }

  protected soon(at: number | null): boolean {
    return at !== null && at - this.session.now() < 60 * 86_400_000;
  }

  protected price(t: Target): string {
    return t.prices ? formatPrice(monthlyPrice(t.used ?? t.storedBytes, t.prices), t.prices.currency) : '';
  }

  protected open(what: 'target' | Target, act: 'seal' | 'prune' = 'seal'): void {
    this.problem.set('');
    this.tested.set(undefined);
    this.envelope.set('');
    this.sealed.set(null);
    this.passphrase = '';
    if (what === 'target') this.adding.set(true);
    else if (act === 'prune') this.pruning.set(what);
    else this.sealing.set(what);
  }

  private readonly failed = (f: ApiFailure) => {
    this.busy.set(false);
    this.problem.set(f.message);
  };

  private body() {
    return { name: this.name.trim() || 'unnamed', place: this.place(), location: this.location };
  }

  private place(): TargetPlace {
    if (this.kind() === 'folder') return { kind: 'folder', folder: this.folder.trim() };
    if (this.kind() === 'cartridges') {
      const { endpoint, token, barcodes, folder } = this.library;
      return { kind: 'cartridges', endpoint: endpoint.trim(), token: token.trim(), barcodes: barcodes.trim(), folder: folder.trim() };
    }
    const { endpoint, region, bucket, prefix, accessKey, secretKey } = this.bucket;
    const below = prefix.trim().replace(/^\/+|\/+$/g, '');
    return {
      kind: 'bucket',
      endpoint: endpoint.trim(),
      region: region.trim() || 'default',
      bucket: bucket.trim(),
      prefix: below && `${below}/`,
      accessKey: accessKey.trim(),
      secretKey: secretKey.trim(),
      locks: false,
    };
  }

  /** Whether enough is said to try it. */
  protected complete(): boolean {
    const { endpoint, bucket, accessKey, secretKey } = this.bucket;
    const wanted = {
      folder: [this.folder],
      bucket: [endpoint, bucket, accessKey, secretKey],
      cartridges: Object.values(this.library),
    };
    return wanted[this.kind()].every((t) => t.trim() !== '');
  }

  protected readonly kindOf = kindOf;
  protected readonly where = whereIs;

  protected test(): void {
    this.api.call('testTarget', { body: this.body() }).subscribe({
      next: (t) => {
        this.tested.set(t);
      },
      error: this.failed,
    });
  }

  protected readonly envelope = signal('');

  /** Reads the envelope a person chose from their disk. */
  protected takeEnvelope(files: FileList | null): void {
    void files?.[0]?.text().then((text) => {
      this.envelope.set(text);
    });
  }

  protected readonly followEvery = followEvery;
  protected every = 15;

  protected takeOver(): void {
    this.takeIn((body) => this.api.call('takeOverTarget', { body }));
  }

  protected follow(): void {
    this.takeIn((body) => this.api.call('followTarget', { body: { ...body, every: this.every } }));
  }

  private takeIn(call: (body: ReturnType<StoragePage['opened']>) => Observable<{ runId: number }>): void {
    this.busy.set(true);
    this.problem.set('');
    call(this.opened()).subscribe({ next: this.toRun, error: this.failed });
  }

  private opened() {
    return { ...this.body(), envelope: this.envelope(), passphrase: this.passphrase };
  }

  protected add(): void {
    this.busy.set(true);
    this.api.call('addTarget', { body: this.body() }).subscribe({
      next: () => {
        this.busy.set(false);
        this.adding.set(false);
      },
      error: this.failed,
    });
  }

  protected verify(target: Target): void {
    this.api.call('verifyTarget', { id: target.id }).subscribe({ next: this.toRun, error: this.failed });
  }

  private readonly toRun = ({ runId }: { runId: number }) => void this.router.navigate(['/runs', runId]);

  protected prune(target: Target, trial: boolean): void {
    this.api.call('pruneTarget', { id: target.id, body: { trial } }).subscribe({ next: this.toRun, error: this.failed });
  }

  protected seal(target: Target): void {
    this.busy.set(true);
    this.api.call('envelope', { id: target.id, body: { passphrase: this.passphrase } }).subscribe({
      next: (envelope) => {
        this.busy.set(false);
        this.sealed.set(envelope);
      },
      error: this.failed,
    });
  }

  /** The envelope that was made, to be kept as a file and on paper. */
  protected readonly sealed = signal<{ fileName: string; content: string } | null>(null);

  protected download({ fileName, content }: { fileName: string; content: string }): void {
    const link = document.createElement('a');
    link.href = URL.createObjectURL(new Blob([content], { type: 'application/json' }));
    link.download = fileName;
    link.click();
    URL.revokeObjectURL(link.href);
  }

  protected print(): void {
    window.print();
  }
}

import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { Answered, Share } from '@lithodex/contract';
import { BehaviorSubject, switchMap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { Certain } from '../ui/certain';
import { ShareForm } from './share-form';

/** Shares that files can be brought to. */
@Component({
  selector: 'lx-shares-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, Certain, ShareForm],
  templateUrl: './shares-page.html',
  styles: '.acts { display: inline-flex; gap: 8px; }',
})
export class SharesPage {
  private readonly api = inject(Api);
  private readonly again = new BehaviorSubject<void>(undefined);
  private readonly result = toSignal(this.again.pipe(switchMap(() => this.api.call('listShares').pipe(outcome<Answered<'listShares'>>()))));
  protected readonly rows = computed(() => this.result()?.value?.rows);
  protected readonly failure = computed(() => this.result()?.failure);
  protected readonly problem = signal('');
  /** What is written down: a new one, or one that is changed. */
  protected readonly form = signal<{ readonly share?: Share } | undefined>(undefined);
  protected readonly forgetting = signal<Share | undefined>(undefined);

  protected where({ address: a }: Share): string {
    return a.kind === 'smb' ? `${a.share} on ${a.host}${a.port === 445 ? '' : `, port ${a.port}`}` : a.url;
  }

  protected kept(): void {
    this.form.set(undefined);
    this.again.next();
  }

  protected forget({ id }: Share): void {
    this.api.call('removeShare', { id }).subscribe({
      next: () => {
        this.forgetting.set(undefined);
        this.again.next();
      },
      error: (f: ApiFailure) => {
        this.problem.set(f.message);
      },
    });
  }
}

import { ChangeDetectionStrategy, Component, computed, inject, input, numberAttribute, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { BesideRows } from '@lithodex/contract';
import { objectNameOf, unescapePath } from '@lithodex/core';
import { Subject, startWith, switchMap, tap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';
import { RowsDifference, type Change } from './rows-difference';

const leastReason = 3;

/** How a table differs from the one that was restored beside it, row by row; the two can be swapped. */
@Component({
  selector: 'lx-rows-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, FormDialog, RowsDifference, ...formatPipes],
  templateUrl: './rows-page.html',
  styleUrl: './rows-page.scss',
})
export class RowsPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  /** Of the run that put the table there. */
  readonly id = input.required({ transform: numberAttribute });
  readonly task = input.required<string>();
  readonly path = input.required<string>();
  /** From the address: only rows with this difference. */
  readonly only = input<string>();
  protected readonly problem = signal('');
  protected readonly busy = signal(false);
  protected readonly swapping = signal(false);
  /** What is worth knowing of the swap; undefined while none was made. */
  protected readonly swapped = signal<readonly string[] | undefined>(undefined);
  protected readonly reason = signal('');
  private readonly again = new Subject<void>();
  private readonly result = toSignal(
    toObservable(computed(() => ({ id: this.id(), query: { task: this.task(), path: this.path() } }))).pipe(
      switchMap((of) =>
        this.again.pipe(
          startWith(undefined),
          tap(() => {
            this.busy.set(true);
          }),
          switchMap(() => this.api.call('besideRows', of).pipe(outcome<BesideRows>())),
          tap(() => {
            this.busy.set(false);
          }),
        ),
      ),
    ),
  );
  private readonly listed = toSignal(toObservable(this.id).pipe(switchMap((id) => this.api.call('besideTables', { id }).pipe(outcome()))));
  protected readonly compared = computed(() => this.result()?.value);
  protected readonly failure = computed(() => this.result()?.failure?.message);
  protected readonly table = computed(() => this.listed()?.value?.rows.find((r) => r.taskId === this.task() && r.path === this.path()));
  protected readonly name = computed(
    () => this.table()?.table ?? objectNameOf(unescapePath(this.path()).split('/').at(-1) ?? '').replace(/\.sql$/, ''),
  );
  protected readonly same = computed(() => {
    const c = this.compared()?.counts;
    return c !== undefined && c.added + c.changed + c.gone === 0;
  });
  protected readonly ready = computed(() => this.reason().trim().length >= leastReason && !this.busy());

  protected show(only: Change | null): void {
    void this.router.navigate([], { queryParams: { only }, queryParamsHandling: 'merge', replaceUrl: true });
  }

  protected swap(): void {
    if (!this.ready()) return;
    this.busy.set(true);
    this.problem.set('');
    this.api.call('swapBeside', { id: this.id(), body: { task: this.task(), path: this.path(), reason: this.reason().trim() } }).subscribe({
      next: ({ remarks }) => {
        this.swapping.set(false);
        this.swapped.set(remarks);
        this.reason.set('');
        this.again.next();
      },
      error: (failure: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(failure.message);
      },
    });
  }
}

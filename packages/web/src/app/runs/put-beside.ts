import { ChangeDetectionStrategy, Component, inject, input } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import { switchMap } from 'rxjs';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';

const shown = 12;

/** Tables that a restore put beside others, each with the way to its rows. */
@Component({
  selector: 'lx-put-beside',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink],
  template: `@if (listed()?.value?.rows?.length) {
    <div class="sheet box">
      <h2>Put beside what was there</h2>
      @for (t of listed()!.value!.rows.slice(0, most); track t.path) {
        <div class="row-line small">
          <span class="num cut">{{ t.database }}.{{ t.table }}{{ t.suffix }}</span>
          <span class="grow"></span>
          <a [routerLink]="['/runs', run(), 'rows']" [queryParams]="{ task: t.taskId, path: t.path }">Compare the rows</a>
        </div>
      }
    </div>
  }`,
  styles: '.box { padding: 12px 16px; display: flex; flex-direction: column; gap: 6px; }',
})
export class PutBeside {
  private readonly api = inject(Api);
  readonly run = input.required<number>();
  protected readonly most = shown;
  protected readonly listed = toSignal(
    toObservable(this.run).pipe(switchMap((id) => this.api.call('besideTables', { id }).pipe(outcome()))),
  );
}

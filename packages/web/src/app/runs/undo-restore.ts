import { ChangeDetectionStrategy, Component, inject, input } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router } from '@angular/router';
import type { Undo } from '@lithodex/contract';
import { switchMap } from 'rxjs';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Picks } from '../data/picks';
import { formatPipes } from '../ui/format-pipes';

/** The way back from a restore that replaced something: what was there stands in the point that was taken before. */
@Component({
  selector: 'lx-undo-restore',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...formatPipes],
  template: `@if (undo()?.value; as u) {
    @if (u.rows.length) {
      <div class="sheet box row-line">
        <span>What was there before was kept at {{ u.moment | moment }}, {{ u.rows.length | count: 'item' }}.</span>
        <span class="grow"></span>
        <button type="button" class="act" (click)="bringBack(u)">Undo this restore</button>
      </div>
    }
  }`,
  styles: '.box { padding: 12px 16px; }',
})
export class UndoRestore {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  private readonly picks = inject(Picks);
  readonly run = input.required<number>();
  protected readonly undo = toSignal(toObservable(this.run).pipe(switchMap((id) => this.api.call('undo', { id }).pipe(outcome<Undo>()))));

  /** On the sheet it is seen what that replaces. */
  protected bringBack({ rows }: Undo): void {
    this.picks.clear();
    this.picks.add(rows);
    void this.router.navigate(['/recover/sheet'], { queryParams: { exists: 'replace' } });
  }
}

import { ChangeDetectionStrategy, Component, inject, input } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import { switchMap } from 'rxjs';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { formatPipes } from '../ui/format-pipes';

/** The way into the scratch server that a restore left up, while it is. */
@Component({
  selector: 'lx-scratch-up',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, ...formatPipes],
  template: `@if (inside()?.value; as s) {
      <div class="sheet box row-line">
        <span>A scratch server holds it until {{ s.until | moment }}, read only.</span>
        <span class="grow"></span>
        <a class="act go" [routerLink]="['/runs', run(), 'inside']">Look into it</a>
      </div>
    } @else if (inside()?.failure?.code === 'MOVER_FAILED') {
      <div class="sheet box mute">The scratch server is not up any more.</div>
    }`,
  styles: '.box { padding: 12px 16px; }',
})
export class ScratchUp {
  private readonly api = inject(Api);
  readonly run = input.required<number>();
  protected readonly inside = toSignal(toObservable(this.run).pipe(switchMap((id) => this.api.call('inside', { id }).pipe(outcome()))));
}

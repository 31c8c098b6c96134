import { NgComponentOutlet } from '@angular/common';
import { ChangeDetectionStrategy, Component, inject, input, PendingTasks } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { finalize, from, switchMap } from 'rxjs';
import type { LoadsPart } from './kind-parts';

/** Shows a part that is a kind's own, once it is loaded. */
@Component({
  selector: 'lx-kind-part',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [NgComponentOutlet],
  template: `@if (type(); as t) {
    <ng-container [ngComponentOutlet]="t" [ngComponentOutletInputs]="inputs()" />
  }`,
  styles: ':host { display: contents; }',
})
export class KindPart {
  readonly part = input.required<LoadsPart>();
  readonly inputs = input<Record<string, unknown>>({});
  private readonly pending = inject(PendingTasks);
  protected readonly type = toSignal(toObservable(this.part).pipe(switchMap((load) => from(load()).pipe(finalize(this.pending.add())))));
}

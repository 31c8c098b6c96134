import { ChangeDetectionStrategy, Component, computed, inject } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { FirstSteps } from '@lithodex/contract';
import { of } from 'rxjs';
import { Api } from '../data/api';
import { outcome, type Outcome } from '../data/outcome';
import { Session } from '../data/session';
import { StateMark } from '../ui/state-mark';
import { stepWords } from './first-steps-words';

/** In Watch, while a new installation still needs something: how much, and what comes next. Nothing otherwise. */
@Component({
  selector: 'lx-first-steps-hint',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, StateMark],
  template: `@if (open(); as o) {
    <a class="sheet hint" routerLink="/first-steps"
      ><lx-mark state="look" /><span
        ><b>{{ o.left }} of {{ o.all }} first steps {{ o.left === 1 ? 'is' : 'are' }} left.</b> Next: {{ o.next }}.</span
      ></a
    >
  }`,
  styles: '.hint { display: flex; gap: 10px; padding: 10px 14px; margin-bottom: 10px; color: var(--ink); text-decoration: none; }',
})
export class FirstStepsHint {
  private readonly result = toSignal(
    inject(Session).keeps() ? inject(Api).call('firstSteps').pipe(outcome<FirstSteps>()) : of<Outcome<FirstSteps> | undefined>(undefined),
  );
  protected readonly open = computed(() => {
    const found = this.result()?.value;
    const left = found?.steps.filter((s) => !s.done) ?? [];
    const next = left[0];
    return !found || found.hidden || !next
      ? undefined
      : { left: left.length, all: found.steps.length, next: stepWords[next.name].title.toLowerCase() };
  });
}

import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { FirstSteps } from '@lithodex/contract';
import { BehaviorSubject, merge, switchMap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { StateMark } from '../ui/state-mark';
import { stepWords } from './first-steps-words';

/** What a new installation still needs before it can be relied on, told from what is there. */
@Component({
  selector: 'lx-first-steps-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, StateMark],
  template: `<div class="page">
    <div class="row-line">
      <h1>First steps</h1>
      <span class="mute">{{ lead() }}</span>
      <span class="grow"></span>
      @if (result()?.value; as v) {
        <button type="button" class="act" (click)="hide(!v.hidden)">
          {{ v.hidden ? 'Show it in Watch again' : 'Do not show it in Watch' }}
        </button>
      }
    </div>
    @if (problem() || result()?.failure) {
      <div class="problem" role="alert">{{ problem() || result()?.failure?.message }}</div>
    }
    <ol class="sheet">
      @for (s of steps(); track s.name; let i = $index) {
        <li [class.now]="s.name === next()?.name" [class.done]="s.done">
          <span class="no num" aria-hidden="true">{{ i + 1 }}</span>
          <lx-mark [state]="s.done ? 'fine' : s.name === next()?.name ? 'look' : 'waiting'" />
          <div>
            <h2>{{ s.title }}</h2>
            <p class="mute m-0">{{ s.done && s.note ? s.note : s.why }}</p>
            @if (!s.done && s.note) {
              <p class="w m-0">{{ s.note }}</p>
            }
          </div>
          <a class="act" [class.go]="s.name === next()?.name" [routerLink]="s.link">{{ s.act }}</a>
        </li>
      }
    </ol>
  </div>`,
  styles: `
    :host {
      display: block;
      height: 100%;
    }
    .page {
      max-width: 900px;
      overflow: auto;
    }
    ol {
      list-style: none;
      margin: 0;
      padding: 4px 18px;
    }
    li {
      display: grid;
      grid-template-columns: 22px 22px 1fr auto;
      gap: 10px;
      align-items: start;
      padding: 14px 0;
    }
    li + li {
      border-top: 1px solid var(--line);
    }
    li.done h2 {
      font-weight: 500;
      color: var(--ink-2);
    }
    .no {
      color: var(--ink-2);
      text-align: right;
    }
  `,
})
export class FirstStepsPage {
  private readonly api = inject(Api);
  private readonly live = inject(Live);
  private readonly again = new BehaviorSubject<void>(undefined);
  protected readonly result = toSignal(
    merge(
      this.again,
      this.live.ticks((e) => e.kind !== 'progress', 2000),
    ).pipe(switchMap(() => this.api.call('firstSteps').pipe(outcome<FirstSteps>()))),
  );
  protected readonly steps = computed(() => this.result()?.value?.steps.map((s) => ({ ...s, ...stepWords[s.name] })) ?? []);
  protected readonly next = computed(() => this.steps().find((s) => !s.done));
  protected readonly problem = signal('');
  protected readonly lead = computed(() => {
    const steps = this.steps();
    if (!steps.length) return '';
    const open = steps.filter((s) => !s.done).length;
    return open
      ? `${steps.length - open} of ${steps.length} done. Until all are, do not rely on it.`
      : 'All done: this installation can be relied on.';
  });

  protected hide(hidden: boolean): void {
    this.api.call('hideFirstSteps', { body: { hidden } }).subscribe({
      next: () => {
        this.again.next();
      },
      error: (f: ApiFailure) => {
        this.problem.set(f.message);
      },
    });
  }
}

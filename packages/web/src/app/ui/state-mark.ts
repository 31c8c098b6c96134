import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import { runStateWords, type RunState } from '@lithodex/contract';

export type Mark = RunState | 'fault' | 'warning' | 'absent' | 'none' | 'matched' | 'protected' | 'suspect' | 'fine' | 'look' | 'stop';

const words: Record<Mark, string> = {
  ...runStateWords,
  fault: 'fault',
  warning: 'warning',
  absent: 'absent',
  none: 'unprotected',
  matched: 'no point yet',
  protected: 'protected',
  suspect: 'suspect',
  fine: 'fine',
  look: 'needs a look',
  stop: 'stands in the way',
};

/** States of runs that are no failure and want a look all the same. */
export const unfinishedStates: readonly RunState[] = ['partsMissing', 'stopped', 'cutOff', 'notStarted'];

type Shape = 'cross' | 'triangle' | 'ring' | 'dot' | 'tick' | 'endstop' | 'play';
const shapes: Record<Mark, Shape> = {
  waiting: 'dot',
  running: 'play',
  done: 'tick',
  remarks: 'triangle',
  partsMissing: 'triangle',
  failed: 'cross',
  held: 'cross',
  stopped: 'endstop',
  cutOff: 'endstop',
  notStarted: 'ring',
  fault: 'cross',
  warning: 'triangle',
  absent: 'ring',
  none: 'ring',
  matched: 'ring',
  protected: 'tick',
  suspect: 'cross',
  fine: 'tick',
  look: 'triangle',
  stop: 'cross',
};

/** The word for a state. */
export function stateWord(state: Mark): string {
  return words[state];
}

/** A state told by shape and colour, with its word for those who can't see either. */
@Component({
  selector: 'lx-mark',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `<svg width="16" height="16" viewBox="0 0 18 18" role="img" [attr.aria-label]="word()">
    @switch (shape()) {
      @case ('cross') {
        <path d="M4 4 14 14M14 4 4 14" stroke="var(--fail)" stroke-width="2.6" stroke-linecap="round" />
      }
      @case ('triangle') {
        <path d="M9 2.5 16 15.5H2Z" fill="none" stroke="var(--warn)" stroke-width="2.2" stroke-linejoin="round" />
      }
      @case ('ring') {
        <circle cx="9" cy="9" r="6.2" fill="none" stroke="var(--missed)" stroke-width="2.2" stroke-dasharray="3 2.4" />
      }
      @case ('tick') {
        <path d="M3.5 9.5l3.6 3.6L14.5 5" fill="none" stroke="var(--ink-2)" stroke-width="1.9" />
      }
      @case ('endstop') {
        <path d="M2 9h9M13 3v12" stroke="var(--warn)" stroke-width="2.4" />
      }
      @case ('play') {
        <path d="M5 3.5 14 9 5 14.5Z" fill="var(--live)" />
      }
      @default {
        <circle cx="9" cy="9" r="2.4" fill="var(--ink-3)" />
      }
    }
  </svg>`,
  styles: ':host { display: inline-flex; vertical-align: -3px; }',
})
export class StateMark {
  readonly state = input.required<Mark>();
  protected readonly shape = computed(() => shapes[this.state()]);
  protected readonly word = computed(() => words[this.state()]);
}

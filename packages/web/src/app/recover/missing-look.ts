import { computed, signal, type Signal } from '@angular/core';
import { takeUntilDestroyed, toObservable } from '@angular/core/rxjs-interop';
import type { DeskAnswer, DeskItem } from '@lithodex/contract';
import { EMPTY, catchError, switchMap, tap, type Observable } from 'rxjs';
import type { ApiFailure } from '../data/api';
import type { SlotOption } from '../ui/slot';

export type MissedRule = 'leave' | 'replace' | 'beside';
/** What becomes of what was changed since. */
export const missedRules: SlotOption<MissedRule>[] = [
  { value: 'replace', label: 'is replaced' },
  { value: 'beside', label: 'stays, and the old one is put beside it' },
  { value: 'leave', label: 'is left as it is' },
];

/** Folders at the top of points, by what people call them. */
const tops: Readonly<Record<string, readonly string[]>> = {
  all: [],
  mail: ['Mail'],
  calendar: ['Calendars'],
  contacts: ['Contacts'],
  files: ['Drive', 'Files'],
};
export const topsOf = (part: string): string[] => [...(tops[part] ?? [])];

const dayMs = 86_400_000;

/** The moment that is looked at: as said, else a day ago, as that is when people mostly last saw it; never one at which there is no point. `moments`: newest first. */
export function momentLookedAt(moments: readonly number[], said: number | null, now: number): number | null {
  const wanted = said ?? now - dayMs;
  return moments.find((m) => m <= wanted) ?? moments.at(-1) ?? null;
}

/** What somebody misses: asked for whenever the question becomes another one, with what of the answer is ticked. Made where things are injected. */
export class MissingLook<Q> {
  readonly looking = signal(false);
  readonly problem = signal('');
  readonly answer = signal<DeskAnswer | undefined>(undefined);
  readonly ticked = signal<ReadonlyMap<string, DeskItem>>(new Map());
  readonly rule = signal<MissedRule>('replace');
  readonly changedOnes = computed(() => [...this.ticked().values()].some((i) => i.change === 'changed'));
  readonly bytes = computed(() => [...this.ticked().values()].reduce((sum, i) => sum + i.size, 0));
  /** The rule that is meant: where nothing changed there is nothing to replace. */
  readonly ruleMeant = computed((): MissedRule => (this.changedOnes() ? this.rule() : 'leave'));

  constructor(question: Signal<Q | null>, ask: (question: Q) => Observable<DeskAnswer>) {
    toObservable(question)
      .pipe(
        tap(() => {
          this.answer.set(undefined);
          this.ticked.set(new Map());
          this.problem.set('');
        }),
        switchMap((asked) => {
          this.looking.set(asked !== null);
          if (asked === null) return EMPTY;
          return ask(asked).pipe(
            catchError((failure: ApiFailure) => {
              this.looking.set(false);
              this.problem.set(failure.message);
              return EMPTY;
            }),
          );
        }),
        takeUntilDestroyed(),
      )
      .subscribe((answer) => {
        this.looking.set(false);
        this.answer.set(answer);
        // everything of the group that went together, where there is one: that is mostly what is missed
        const [first] = answer.groups;
        this.ticked.set(new Map(first?.together ? first.items.map((i) => [i.path, i]) : []));
      });
  }
}

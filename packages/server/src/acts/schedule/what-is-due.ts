import type { InWindow } from '@lithodex/core';
import { heaviestFirst, takesFor, type Cause, type PolicyRule } from '@lithodex/contract';
import { timePassed, windowShut } from '../../records/runs/time-causes';

/** So late a run may be without having been missed: the scheduler may have been busy. */
const graceMs = 10 * 60_000;
const longestAfterFailures = 30;

/** Minutes until what is taken without a pause is tried again, by the states of its newest runs, the newest first: one after a failure, twice as many after each further one in a row. */
export function minutesAfter(states: readonly string[]): number {
  const others = states.findIndex((state) => state !== 'failed');
  return Math.min(longestAfterFailures, 2 ** Math.max(0, (others < 0 ? states.length : others) - 1));
}

/** Why a run that is due does not take place; undefined where it does, or where it waits for its window. */
export function passedOver(catchesUp: boolean, due: number, now: number, within: Pick<InWindow, 'open'> | undefined): Cause | undefined {
  if (catchesUp) return undefined;
  if (within && !within.open) return windowShut;
  return now - due > graceMs ? timePassed : undefined;
}

export interface DueRule {
  readonly rule: PolicyRule;
  /** When its time came. */
  readonly due: number;
}

/** The rules whose time has come, those that read most first. */
export function inOrder(rules: readonly PolicyRule[], due: ReadonlyMap<number, number>): DueRule[] {
  return heaviestFirst(rules).flatMap((rule) => {
    const at = due.get(rule.no);
    return at === undefined ? [] : [{ rule, due: at }];
  });
}

type Taking = Pick<PolicyRule, 'kind' | 'targetId' | 'parts'>;

/** Which of several rules that are due together take a point: on each target the first that starts takes it for all others there that read no more; a log is taken beside them. */
export class PointsTaken {
  private readonly takers: Taking[] = [];

  /** Whether a rule needs none of its own. */
  covers(rule: Taking): boolean {
    return this.takers.some((taker) => takesFor(taker, rule));
  }

  take(rule: Taking): void {
    this.takers.push(rule);
  }
}

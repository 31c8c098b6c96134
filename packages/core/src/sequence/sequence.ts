/** A step of a sequence. `after`: the places of steps before it that have to be back first; `waitMs`: so long it waits once they are. */
export interface OrderedStep {
  readonly after: readonly number[];
  readonly waitMs: number;
}

/** `blocked`: something that it waits for did not come back. `passedOver`: somebody said to go on without it. */
export type StepState = 'waiting' | 'running' | 'back' | 'failed' | 'blocked' | 'passedOver' | 'stopped';

/** A step under way. `endedAt`: ms; null while it has not ended. */
export interface StepUnderWay extends OrderedStep {
  readonly state: StepState;
  readonly endedAt: number | null;
}

export interface SequenceMoves {
  /** Steps that begin now. */
  readonly begin: readonly number[];
  /** Steps that can't begin, as something before them did not come back. */
  readonly blocked: readonly number[];
  /** When the next step may begin that only waits for its time (ms); null where there is none. */
  readonly nextAt: number | null;
  /** Nothing runs, and nothing will begin by itself. */
  readonly over: boolean;
}

const isPast = (state: StepState) => state === 'back' || state === 'passedOver';

/**
 * What a sequence does next: a step begins once all that it waits for is back (or passed over) and its wait is over. What comes after a step that failed is blocked, and all that comes after that.
 * @param startedAt, now ms
 */
export function sequenceMoves(steps: readonly StepUnderWay[], startedAt: number, now: number): SequenceMoves {
  const [begin, blocked, times]: [number[], number[], number[]] = [[], [], []];
  const isBlocked = new Set<number>();
  steps.forEach((step, i) => {
    if (step.state !== 'waiting' && step.state !== 'blocked') return;
    if (step.after.some((j) => isBlocked.has(j) || steps[j]!.state === 'failed' || steps[j]!.state === 'stopped')) {
      isBlocked.add(i);
      blocked.push(i);
      return;
    }
    if (!step.after.every((j) => isPast(steps[j]!.state))) return;
    const at = Math.max(startedAt, ...step.after.map((j) => steps[j]!.endedAt ?? startedAt)) + step.waitMs;
    if (at <= now) begin.push(i);
    else times.push(at);
  });
  const nextAt = times.length ? Math.min(...times) : null;
  return { begin, blocked, nextAt, over: !begin.length && nextAt === null && !steps.some((s) => s.state === 'running') };
}

/** When a step begins and ends (ms from the start); null where nobody knows. */
export interface StepTimes {
  readonly beginMs: number | null;
  readonly endMs: number | null;
}

/** When each step would begin and end, if each takes so long (ms; null: nobody knows) and as many run side by side as may. */
export function sequenceTimes(steps: readonly (OrderedStep & { readonly takesMs: number | null })[]): StepTimes[] {
  const times: StepTimes[] = [];
  for (const { after, waitMs, takesMs } of steps) {
    const ends = after.map((j) => times[j]!.endMs);
    const beginMs = ends.every((end) => end !== null) ? Math.max(0, ...ends) + waitMs : null;
    times.push({ beginMs, endMs: beginMs === null || takesMs === null ? null : beginMs + takesMs });
  }
  return times;
}

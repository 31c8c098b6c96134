import type { Deps } from '../deps';
import { backupTasksSince, hasRun, nightsBefore, spanOf, usualLoad, type NightRow } from './night';

const dayMs = 86_400_000;
/** A night is shown for two days at most, in slots of ten minutes. */
const mostSlots = 288;

/** The nights before one, as far as the watch compares with them. */
export interface EarlierNights {
  /** First start to last end of each night, the newest first, ms. */
  readonly spans: readonly number[];
  /** Median of the tasks at work in each slot, by name of the policy. */
  usual(policy: string): readonly number[];
}

/** Work without a policy. */
export const onDemand = 'On demand';

async function read(deps: Deps, from: number): Promise<EarlierNights> {
  const history = (await backupTasksSince(deps, from - nightsBefore * dayMs)).filter((t) => t.queued_at < from);
  const byPolicy = new Map<string, typeof history>();
  for (const task of history) {
    const name = task.policy ?? onDemand;
    const known = byPolicy.get(name);
    if (known) known.push(task);
    else byPolicy.set(name, [task]);
  }
  const loads = new Map([...byPolicy].map(([name, tasks]) => [name, usualLoad(tasks, from, mostSlots)]));
  const nothing = Array.from({ length: mostSlots }, () => 0);
  const ran = history.filter(hasRun);
  const spans = Array.from({ length: nightsBefore }, (_, i) => spanOf(ran, from - (i + 1) * dayMs, from - i * dayMs));
  return { spans: spans.filter((ms) => ms !== null), usual: (policy) => loads.get(policy) ?? nothing };
}

/** The nights before, read once for each night that is watched: what is over does not change. */
export class NightBook {
  private kept: { readonly from: number; readonly nights: Promise<EarlierNights> } | undefined;

  private now: { readonly from: number; readonly newest: number; readonly tasks: Promise<NightRow[]> } | undefined;

  constructor(private readonly deps: Deps) {}

  /** The backup tasks since `from`, read again once anything was told to have changed. */
  async tasks(from: number): Promise<NightRow[]> {
    const newest = await this.deps.events.newest();
    if (this.now?.from === from && this.now.newest === newest) return this.now.tasks;
    const tasks = backupTasksSince(this.deps, from);
    this.now = { from, newest, tasks };
    tasks.catch(() => {
      this.now = undefined;
    });
    return tasks;
  }

  before(from: number): Promise<EarlierNights> {
    if (this.kept?.from === from) return this.kept.nights;
    const nights = read(this.deps, from);
    this.kept = { from, nights };
    nights.catch(() => {
      this.kept = undefined;
    });
    return nights;
  }
}

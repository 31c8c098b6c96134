import { median } from '@lithodex/core';
import type { NightGrouping } from '@lithodex/contract';
import type { Base } from '../../base/base';
import { atWork, backupTasksSince, backupsWithNames, hasRun, nightStart, nightsBefore, slotMs, spanOf, type NightRow } from './night';

const dayMs = 86_400_000;
const slotsADay = dayMs / slotMs;

/** The nights before one, as far as the watch compares with them. */
export interface EarlierNights {
  /** First start to last end of each night, the newest first, ms. */
  readonly spans: readonly number[];
  /** Median of the tasks at work in each slot of a day, of one group. */
  usual(by: NightGrouping, name: string): readonly number[];
  /** What the tasks of a workload that made a point came to, one a night. */
  took(workloadId: number): readonly Took[];
}

type NightTask = Pick<NightRow, 'policy' | 'source' | 'state' | 'started_at' | 'ended_at' | 'workload_id' | 'stored' | 'point_kind'>;

/** What a task of an earlier night came to. */
export interface Took {
  readonly ms: number;
  readonly stored: number;
}

/** Name of the group that work belongs to. */
export const groupOf = (task: Pick<NightRow, 'policy' | 'source'>, by: NightGrouping): string =>
  by === 'source' ? task.source : (task.policy ?? 'On demand');

/** What is kept of one night. */
interface PastNight {
  readonly span: number | null;
  readonly loads: Readonly<Record<NightGrouping, ReadonlyMap<string, readonly number[]>>>;
  readonly took: ReadonlyMap<number, Took>;
  readonly over: boolean;
}

async function readNight(deps: Base, from: number): Promise<PastNight> {
  const tasks = await backupsWithNames(deps.db, from)
    .where('t.queued_at', '<', from + dayMs)
    .whereNotNull('t.started_at')
    .select<NightTask[]>(
      'p.name as policy',
      's.name as source',
      't.state',
      't.started_at',
      't.ended_at',
      't.workload_id',
      'made.stored',
      'r.point_kind',
    );
  return {
    span: spanOf(tasks.filter(hasRun)),
    loads: { policy: loadsBy(tasks, 'policy', from), source: loadsBy(tasks, 'source', from) },
    took: new Map(
      tasks.flatMap((t) =>
        t.ended_at !== null && t.stored !== null ? [[t.workload_id, { ms: t.ended_at - t.started_at, stored: t.stored }]] : [],
      ),
    ),
    over: tasks.every((t) => t.ended_at !== null),
  };
}

function loadsBy(tasks: readonly NightTask[], by: NightGrouping, from: number): Map<string, number[]> {
  const groups = new Map<string, NightTask[]>();
  for (const task of tasks) {
    const name = groupOf(task, by);
    const known = groups.get(name);
    if (known) known.push(task);
    else groups.set(name, [task]);
  }
  return new Map([...groups].map(([name, own]) => [name, atWork(own, from, slotsADay, from + dayMs)]));
}

/** The tasks of the night, as of the newest change; `names` is the newest change of what workloads and policies are called. */
interface Tonight {
  readonly from: number;
  readonly newest: number;
  readonly names: number;
  readonly tasks: Promise<readonly NightRow[]>;
}

/** So much earlier than the last end seen one may still come to be known, ms. */
const mayEndLate = 120_000;

/** Median per slot over the nights on which anything ran. */
export function usualLoad(nights: readonly (readonly number[])[]): number[] {
  const ran = nights.filter((load) => load.some((v) => v > 0));
  return Array.from({ length: slotsADay }, (_, slot) => (ran.length ? median(ran.map((load) => load[slot] ?? 0)) : 0));
}

/** The nights before, each read once: what is over does not change. */
export class NightBook {
  private readonly past = new Map<number, Promise<PastNight>>();

  private now: Tonight | undefined;

  constructor(private readonly deps: () => Base) {}

  /** Reads the nights that the next watch compares with. */
  async warm(): Promise<void> {
    const { clock, config } = this.deps();
    await this.before(nightStart(clock.now(), config.zone, 1));
  }

  /** The backup tasks since `from`. What has ended is not read again, unless what it is of has become different. */
  async tasks(from: number): Promise<readonly NightRow[]> {
    const { events } = this.deps();
    const [newest, names] = [await events.newest(), await events.newest('estate', 'policy')];
    const known = this.now?.from === from && this.now.names === names ? this.now : undefined;
    if (known?.newest === newest) return known.tasks;
    const tasks = known ? known.tasks.then((before) => this.goneOn(from, before)) : backupTasksSince(this.deps(), from);
    this.now = { from, newest, names, tasks };
    tasks.catch(() => {
      this.now = undefined;
    });
    return tasks;
  }

  private async goneOn(from: number, before: readonly NightRow[]): Promise<NightRow[]> {
    const ended = before.reduce((last, t) => Math.max(last, t.ended_at ?? 0), from);
    const rows = new Map(before.map((t) => [t.id, t]));
    for (const t of before) if (t.ended_at === null) rows.delete(t.id);
    for (const t of await backupTasksSince(this.deps(), from, { open: ended - mayEndLate })) rows.set(t.id, t);
    return [...rows.values()].sort((a, b) => a.queued_at - b.queued_at);
  }

  async before(from: number): Promise<EarlierNights> {
    const starts = Array.from({ length: nightsBefore }, (_, i) => from - (i + 1) * dayMs);
    for (const known of this.past.keys()) if (known < from - 30 * dayMs) this.past.delete(known);
    const nights = await Promise.all(starts.map((start) => this.night(start)));
    return {
      spans: nights.flatMap((n) => n.span ?? []),
      took: (workloadId) => nights.flatMap((n) => n.took.get(workloadId) ?? []),
      usual: (by, name) => usualLoad(nights.flatMap((n) => [n.loads[by].get(name) ?? []])),
    };
  }

  private night(start: number): Promise<PastNight> {
    const known = this.past.get(start);
    if (known) return known;
    const night = readNight(this.deps(), start);
    this.past.set(start, night);
    night.then(
      ({ over }) => {
        if (!over) this.past.delete(start);
      },
      () => this.past.delete(start),
    );
    return night;
  }
}

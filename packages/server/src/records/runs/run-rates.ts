import { ratesOver, type Reading } from '@lithodex/core';
import type { Answered, Progress } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJsonOrNull } from '../../base/db/json';
import type { RunRecord } from './run-rows';

const sampleEveryMs = 5000;
const keptDays = 30;
const dayMs = 86_400_000;
const [fewestSlots, mostSlots] = [8, 120];
const slotAtLeastMs = 1000;

/** What running tasks had read and written, every few seconds. */
export class RateBook {
  private readonly last = new Map<string, number>();

  async keep(
    db: Knex,
    taskId: string,
    at: number,
    { read, bytes, stored }: Pick<Progress, 'read' | 'bytes' | 'stored'>,
    ofSource: boolean,
  ): Promise<void> {
    if (at - (this.last.get(taskId) ?? -Infinity) < sampleEveryMs) return;
    this.last.set(taskId, at);
    await db('rate_sample')
      .insert({ task_id: taskId, at, read_bytes: ofSource ? read : bytes, stored })
      .onConflict()
      .ignore();
  }

  ended(taskId: string): void {
    this.last.delete(taskId);
  }
}

/** Lets go of samples nobody looks at any more. */
export async function dropOldRates(db: Knex, now: number): Promise<void> {
  await db('rate_sample')
    .where('at', '<', now - keptDays * dayMs)
    .delete();
}

/** How fast a run read and wrote, over its time and by the clocks of its movers; evenly between samples. `narrow`: to the tasks `t` that count. */
export async function runRates(
  db: Knex,
  run: RunRecord,
  now: number,
  narrow: (q: Knex.QueryBuilder) => void,
): Promise<Answered<'runRates'>> {
  const to = run.ended_at ?? now;
  if (run.started_at === null || to <= run.started_at) return { from: run.started_at ?? now, slotMs: 0, read: [], written: [] };
  type TaskEnds = {
    id: string;
    type: string;
    started_at: number | null;
    ended_at: number | null;
    counts: unknown;
    measured_ms: number | null;
  };
  const tasks = await db('task as t')
    .where({ 't.run_id': run.id })
    .whereNotNull('t.started_at')
    .modify(narrow)
    .select<TaskEnds[]>('t.id', 't.type', 't.started_at', 't.ended_at', 't.counts', 't.measured_ms');
  const samples = await db('rate_sample as r')
    .join('task as t', 't.id', 'r.task_id')
    .where('t.run_id', run.id)
    .modify(narrow)
    .orderBy('r.at')
    .select<{ task_id: string; at: number; read_bytes: number; stored: number }[]>('r.task_id', 'r.at', 'r.read_bytes', 'r.stored');
  const samplesOf = new Map<string, typeof samples>();
  for (const sample of samples) {
    const known = samplesOf.get(sample.task_id);
    if (known) known.push(sample);
    else samplesOf.set(sample.task_id, [sample]);
  }
  const readings = (pick: (s: { read_bytes: number; stored: number }) => number): Reading[][] =>
    tasks.map((t) => {
      const own = (samplesOf.get(t.id) ?? []).map((s) => ({ at: s.at, total: pick(s) }));
      const counts = fromJsonOrNull<{ read: number; bytes: number; stored: number }>(t.counts);
      const end =
        t.ended_at !== null && counts ? { read_bytes: t.type === 'backup' ? counts.read : counts.bytes, stored: counts.stored } : null;
      const all = [{ at: t.started_at!, total: 0 }, ...own, ...(end ? [{ at: t.ended_at!, total: pick(end) }] : [])];
      const slower = t.ended_at !== null && t.measured_ms ? (t.ended_at - t.started_at!) / t.measured_ms : 1;
      return all.map(({ at, total }) => ({ at, total: total * slower }));
    });
  const slots = Math.min(mostSlots, Math.max(fewestSlots, Math.floor((to - run.started_at) / slotAtLeastMs)));
  const over = (series: Reading[][]) => ratesOver(series, run.started_at!, to, slots);
  return {
    from: run.started_at,
    slotMs: (to - run.started_at) / slots,
    read: over(readings((s) => s.read_bytes)),
    written: over(readings((s) => s.stored)),
  };
}

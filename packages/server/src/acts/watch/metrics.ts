import { Gauge, Registry, type OpenMetricsContentType } from 'prom-client';
import type { Deps } from '../deps';
import { presentWorkloads } from '../estate/estate';

const dayMs = 86_400_000;
const second = 1000;

/** What a monitoring system wants to know, in OpenMetrics text. Measured when asked, so that nothing is out of date. */
export async function metricsText(deps: Deps): Promise<{ readonly type: string; readonly text: string }> {
  const registry = new Registry<OpenMetricsContentType>();
  registry.setContentType(Registry.OPENMETRICS_CONTENT_TYPE);
  const gauge = <L extends string>(name: string, help: string, labelNames: L[] = []) =>
    new Gauge({ name: `lithodex_${name}`, help, labelNames, registers: [registry] });
  await workloads(deps, gauge);
  await work(deps, gauge);
  await targets(deps, gauge);
  gauge('movers', 'Movers heard from lately').set(deps.movers.present().length);
  return { type: registry.contentType, text: await registry.metrics() };
}

type MakeGauge = <L extends string>(name: string, help: string, labelNames?: L[]) => Gauge<L>;

async function workloads(deps: Deps, gauge: MakeGauge): Promise<void> {
  const now = deps.clock.now();
  const estate = await presentWorkloads(deps);
  const covered = gauge('workloads', 'Workloads by coverage: protected, matched (no point yet), suspect, none', ['coverage']);
  for (const coverage of ['protected', 'matched', 'suspect', 'none'] as const)
    covered.set({ coverage }, estate.filter((w) => w.coverage === coverage).length);
  gauge('workloads_late', 'Workloads whose newest good point is older than their objective').set(estate.filter((w) => w.late).length);
  const age = gauge('newest_point_age_seconds', 'Age of the newest good point of a workload', ['workload']);
  for (const { name, newestPoint } of estate) if (newestPoint) age.set({ workload: name }, (now - newestPoint.moment) / second);
}

async function work(deps: Deps, gauge: MakeGauge): Promise<void> {
  const { db, clock } = deps;
  type Count = { kind: string; state: string; n: number };
  const number = db.raw<number>('COUNT(*) AS n');
  const open = gauge('tasks', 'Tasks that wait or run', ['type', 'state']);
  for (const { kind, state, n } of await db('task')
    .whereIn('state', ['waiting', 'running'])
    .groupBy('type', 'state')
    .select<Count[]>('type as kind', 'state', number))
    open.set({ type: kind, state }, Number(n));
  const ended = gauge('runs_ended_last_day', 'Runs that ended in the last 24 hours, by kind and state', ['kind', 'state']);
  for (const { kind, state, n } of await db('run')
    .where('ended_at', '>', clock.now() - dayMs)
    .groupBy('kind', 'state')
    .select<Count[]>('kind', 'state', number))
    ended.set({ kind, state }, Number(n));
}

async function targets({ db }: Deps, gauge: MakeGauge): Promise<void> {
  type Row = { name: string; used: number | null; free: number | null; trouble: string | null };
  const used = gauge('target_used_bytes', 'Bytes a target holds', ['target']);
  const free = gauge('target_free_bytes', 'Bytes free on a target, where it has an end', ['target']);
  const reachable = gauge('target_reachable', '1 where a target could be reached when it was last asked', ['target']);
  for (const t of await db('target').whereNull('retired_to').select<Row[]>('name', 'used', 'free', 'trouble')) {
    if (t.used !== null) used.set({ target: t.name }, t.used);
    if (t.free !== null) free.set({ target: t.name }, t.free);
    reachable.set({ target: t.name }, t.trouble === null ? 1 : 0);
  }
}

import { fitTasks, outcomeOf, whatHelps, type FittedTask, type NightChange, type PlannedTask, type Room } from '@lithodex/core';
import type { NightFit, PolicyBody } from '@lithodex/contract';
import type { Deps } from '../deps';
import { fromJson } from '../../base/db/json';
import { limitOfAll } from '../../records/movers/admission';
import type { Duty } from '../../base/http/duties';
import { policiesInForce, type PolicyRow } from '../../records/policies/matching';
import { nightStart } from '../watch/night';
import { comingTasks } from './coming-tasks';
import { Durations } from './durations';

const aheadMs = 86_400_000;
const minuteMs = 60_000;

type Open = {
  id: string;
  policy_id: number | null;
  rule_no: number;
  workload_id: number;
  source_id: number;
  target_id: string;
  started_at: number | null;
  state: string;
  priority: number;
};

const makerOf = (t: Open) => (t.policy_id === null ? null : { policyId: t.policy_id, ruleNo: t.rule_no });

/** How many tasks can run at once now, by what movers are there and what is allowed. */
async function roomNow(deps: Deps): Promise<Room> {
  const targets = await deps.db('target').whereNotNull('writers').select<{ id: string; writers: number }[]>('id', 'writers');
  const sources = await deps.db('source').whereNotNull('readers').select<{ id: number; readers: number }[]>('id', 'readers');
  const movers = await deps
    .db('mover')
    .whereIn('name', deps.movers.present())
    .select<{ tasks: number; drained: 0 | 1; duties: unknown }[]>('tasks', 'drained', 'duties');
  const capturing = movers.filter((m) => m.drained === 0 && fromJson<Duty[]>(m.duties).includes('capture'));
  return {
    slots: capturing.reduce((sum, m) => sum + m.tasks, 0),
    inAll: (await limitOfAll(deps.db)) ?? Infinity,
    perTarget: new Map(targets.map((t) => [t.id, t.writers])),
    perSource: new Map(sources.map((s) => [s.id, s.readers])),
  };
}

/** What waits or runs already. */
async function openTasks(deps: Deps, durations: Durations, now: number): Promise<PlannedTask[]> {
  const rows = await deps
    .db('task as t')
    .join('run as r', 'r.id', 't.run_id')
    .join('series as s', 's.no', 't.series_no')
    .join('workload as w', 'w.id', 't.workload_id')
    .where('t.type', 'backup')
    .whereIn('t.state', ['waiting', 'running'])
    .select<Open[]>(
      't.id',
      't.state',
      't.priority',
      't.started_at',
      'r.policy_id',
      'r.rule_no',
      't.workload_id',
      'w.source_id',
      's.target_id',
    );
  return rows.map((t) => ({
    key: t.id,
    policyId: t.policy_id ?? 0,
    due: now,
    lasts: Math.max(minuteMs, durations.of('backup', t.workload_id, makerOf(t))!.ms - (t.started_at === null ? 0 : now - t.started_at)),
    // what runs already has its place
    priority: t.state === 'running' ? -1 : t.priority,
    targetId: t.target_id,
    sourceId: t.source_id,
    series: `${t.workload_id}/${t.target_id}`,
  }));
}

/** Tells the tasks of the next 24 hours under some policies, from what is measured and open now. */
async function foresight(deps: Deps) {
  const now = deps.clock.now();
  const durations = await Durations.before(deps, now);
  const open = await openTasks(deps, durations, now);
  return async (policies: readonly Pick<PolicyRow, 'id' | 'body'>[]) => {
    const { tasks, guessed } = await comingTasks(deps, policies, durations, now, now + aheadMs);
    return { now, tasks: [...open, ...tasks], guessed };
  };
}

async function wordsFor(deps: Deps, change: NightChange, policies: readonly PolicyRow[]): Promise<string> {
  const nameIn = async (table: string, id: string | number) => (await deps.db(table).where({ id }).first<{ name: string }>('name')).name;
  switch (change.kind) {
    case 'slot':
      return 'One task more at once on a mover';
    case 'inAll':
      return 'One task more at once in all';
    case 'target':
      return `One task more at once to ${await nameIn('target', change.targetId)}`;
    case 'source':
      return `One task more at once from ${await nameIn('source', change.sourceId)}`;
    case 'earlier':
      return `${policies.find((p) => p.id === change.policyId)?.name ?? 'What waits now'} an hour earlier`;
  }
}

function byPolicy(fitted: readonly FittedTask[], policies: readonly PolicyRow[]): NightFit['policies'] {
  return policies.flatMap(({ id, name }) => {
    const own = fitted.filter((f) => f.task.policyId === id && f.due !== null);
    if (!own.length) return [];
    const { ends, missed } = outcomeOf(own);
    return [{ id, name, tasks: own.length, starts: Math.min(...own.map((f) => f.start ?? f.due!)), ends, missed }];
  });
}

/** How the night that was would have been foretold from the nights before it, beside how it went. null where there was nothing to do. */
async function nightBefore(deps: Deps, room: Room): Promise<NightFit['before']> {
  const now = deps.clock.now();
  const from = nightStart(now, deps.config.zone, 1);
  type Ran = Open & { queued_at: number; ended_at: number; type: 'backup' | 'copy' };
  const ran = await deps
    .db('task as t')
    .join('run as r', 'r.id', 't.run_id')
    .join('workload as w', 'w.id', 't.workload_id')
    .whereIn('t.type', ['backup', 'copy'])
    .where('t.queued_at', '>=', from)
    .whereNotNull('t.started_at')
    .whereNotNull('t.ended_at')
    .select<Ran[]>(
      't.id',
      't.type',
      't.priority',
      't.queued_at',
      't.ended_at',
      'r.policy_id',
      'r.rule_no',
      't.workload_id',
      'w.source_id',
      deps.db.raw("JSON_VALUE(t.work, '$.targetId') AS target_id"),
    );
  if (!ran.length) return null;
  const durations = await Durations.before(deps, from);
  const tasks = ran.map((t): PlannedTask => ({
    key: t.id,
    policyId: t.policy_id ?? 0,
    due: t.queued_at,
    lasts: durations.of(t.type, t.workload_id, makerOf(t))?.ms ?? minuteMs,
    priority: t.priority,
    targetId: t.target_id,
    sourceId: t.type === 'copy' ? -t.workload_id : t.source_id,
    series: `${t.workload_id}/${t.target_id}`,
  }));
  const { ends } = outcomeOf(fitTasks(tasks, { ...room, slots: Math.max(1, room.slots) }));
  return { from, foretold: ends!, ended: Math.max(...ran.map((t) => t.ended_at)), tasks: ran.length };
}

/** How the work of the next 24 hours will go. */
export async function nightFit(deps: Deps): Promise<NightFit> {
  const policies = await policiesInForce(deps.db);
  const { now, tasks, guessed } = await (await foresight(deps))(policies);
  const room = await roomNow(deps);
  const fitted = fitTasks(tasks, room);
  const changes: NightFit['changes'] = [];
  for (const { change, ends, missed } of whatHelps(tasks, room).slice(0, 5))
    changes.push({ text: await wordsFor(deps, change, policies), ends, missed });
  return {
    ...outcomeOf(fitted),
    from: now,
    to: now + aheadMs,
    movers: deps.movers.presentDuties().filter((duties) => duties.includes('capture')).length,
    tasks: tasks.length,
    guessed,
    policies: byPolicy(fitted, policies).sort((a, b) => a.starts - b.starts),
    changes,
    before: await nightBefore(deps, room),
  };
}

/** How the next 24 hours would go with a draft in the place of the policy `id` (null for a new one), beside how they will go as it is. */
export async function fitOfDraft(deps: Deps, id: number | null, body: PolicyBody) {
  const policies = await policiesInForce(deps.db);
  const room = await roomNow(deps);
  const ahead = await foresight(deps);
  const drafted = await ahead([...policies.filter((p) => p.id !== id), { id: id ?? 0, body }]);
  const standing = await ahead(policies);
  return {
    draft: outcomeOf(fitTasks(drafted.tasks, room)),
    inForce: outcomeOf(fitTasks(standing.tasks, room)),
    tasks: drafted.tasks.length,
  };
}

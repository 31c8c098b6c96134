import type { PolicyBody } from '@lithodex/contract';
import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { ApiError, found } from '../../base/errors';
import { checkLocks } from '../policies/put-in-force';
import { policiesInForce, versioned } from '../../records/policies/matching';
import { handOnPromises } from '../policies/promises';
import { rememberVersion } from '../../records/policies/versions';
import type { CopyPlan } from '../runs/copying';
import { queueRun, type NewTask } from '../runs/queue';
import { countOnlyHere } from '../../records/targets/only-here';
import { lose } from './follow';

const pointsAtOnce = 500;

/** The body of a policy that no longer uses a target but another one in its place. */
function without(body: PolicyBody, targetId: string, to: string): PolicyBody {
  const rules = body.rules.map((rule) => {
    const first = rule.targetId === targetId ? to : rule.targetId;
    const copies = rule.copies.map((c) => (c.targetId === targetId ? { ...c, targetId: to } : c));
    const seen = new Set([first]);
    return { ...rule, targetId: first, copies: copies.filter((c) => !seen.has(c.targetId) && seen.add(c.targetId)) };
  });
  return { ...body, rules };
}

/**
 * Gives a target up: policies use another one in its place from now on, and what stands on no other target is copied there, each copy kept as the policy's rule says or until a person
 * decides. Returns the run that copies, or null when nothing has to be. Throws NOT_FOUND, INVALID.
 */
export async function retire(deps: Deps, id: string, to: string, actor: string): Promise<number | null> {
  const now = deps.clock.now();
  return inTransaction(deps.db, async (trx) => {
    const target = found(await trx('target').where({ id }).forUpdate().first<{ name: string } | undefined>('name'));
    const other = await trx('target')
      .where({ id: to })
      .first<{ name: string; retired_to: string | null; follows_every: number | null } | undefined>('name', 'retired_to', 'follows_every');
    if (!other || id === to || other.retired_to || other.follows_every !== null)
      throw new ApiError('INVALID', [{ at: 'body.to' }], 'Its points go to another target that is in use. Nothing was changed.');
    await trx('target').where({ id }).update({ retired_to: to });
    await handOnPromises(trx, id, to);
    for (const policy of await policiesInForce(trx)) {
      const body = without(policy.body, id, to);
      if (JSON.stringify(body) === JSON.stringify(policy.body)) continue;
      for (const rule of body.rules.flatMap((r) => [r, ...r.copies])) if (rule.targetId === to && rule.lockDays) await checkLocks(trx, to);
      await versioned(trx, now, async () => {
        await trx('policy')
          .where({ id: policy.id })
          .update({ body: JSON.stringify(body) });
      });
      await rememberVersion(trx, policy.id, now, actor, body);
    }
    await moveSeries(trx, id, to);
    const tasks = await drainTasks(trx, id, to);
    await appendAudit(trx, now, { actor, action: 'target.retire', object: `target ${id}`, detail: `to ${to}` });
    if (!tasks.length) return null;
    return queueRun(trx, now, {
      kind: 'copy',
      startedBy: 'hand',
      name: `Copies to ${other.name}`,
      rules: `${target.name} is given up`,
      person: actor,
      tasks,
    });
  });
}

/** Series go on where they are copied to, unless there is one of their workload there already. */
async function moveSeries(trx: Knex.Transaction, id: string, to: string): Promise<void> {
  const there = trx('series as o')
    .whereRaw('o.workload_id = s.workload_id AND o.method = s.method AND o.part = s.part')
    .where({ 'o.target_id': to });
  const moving = await trx('series as s').where({ 's.target_id': id }).whereNotExists(there).select<{ no: number }[]>('s.no');
  await trx('series')
    .whereIn(
      'no',
      moving.map((s) => s.no),
    )
    .update({ target_id: to });
}

/** Copies of all points that stand on one target only. */
async function drainTasks(trx: Knex.Transaction, id: string, to: string): Promise<NewTask[]> {
  type Row = { id: string; series_no: number; workload_id: number };
  const elsewhere = trx('copy as o').whereRaw('o.point_id = p.id').where({ 'o.state': 'present' }).whereNot({ 'o.target_id': id });
  const rows = await trx('point as p')
    .join('copy as c', 'c.point_id', 'p.id')
    .where({ 'c.target_id': id, 'c.state': 'present', 'p.state': 'visible' })
    .whereNotExists(elsewhere)
    .orderBy(['p.series_no', 'p.ordinal'])
    .select<Row[]>('p.id', 'p.series_no', 'p.workload_id');
  const bySeries = new Map<number, Row[]>();
  for (const row of rows) bySeries.set(row.series_no, [...(bySeries.get(row.series_no) ?? []), row]);
  return [...bySeries.values()].flatMap((own) =>
    Array.from({ length: Math.ceil(own.length / pointsAtOnce) }, (_, i): NewTask => {
      const points = own.slice(i * pointsAtOnce, (i + 1) * pointsAtOnce).map((p) => p.id);
      const work: CopyPlan = { targetId: to, points, alike: null, lockDays: null };
      return { workloadId: own[0]!.workload_id, seriesNo: own[0]!.series_no, type: 'copy', work };
    }),
  );
}

/** Why a target can't be forgotten; '' when it can. */
export async function whyKept(deps: Deps, id: string): Promise<string> {
  type Row = { retired_to: string | null; follows_every: number | null };
  const target = found(await deps.db('target').where({ id }).first<Row | undefined>('retired_to', 'follows_every'));
  const followed = target.follows_every !== null;
  if (!target.retired_to && !followed) return 'It is in use. Give it up first: then its points go to another target.';
  const open = await deps
    .db('task')
    .whereIn('state', ['waiting', 'running'])
    .whereRaw("JSON_VALUE(work, '$.targetId') = ?", [id])
    .first<{ id: string } | undefined>('id');
  if (open) return 'Tasks on it have not ended yet.';
  // what is followed stays with its owner
  if (followed) return '';
  const only = await countOnlyHere(deps.db, id);
  if (only) return `${only} points stand on no other target yet.`;
  const longer = await countLonger(deps.db, id, deps.clock.now());
  return longer ? `${longer} points are promised longer there than anywhere else.` : '';
}

/** Points that are promised to be kept longer on a target than on any other. */
async function countLonger(db: Knex, id: string, now: number): Promise<number> {
  const asLong = db('copy as o')
    .whereRaw('o.point_id = c.point_id AND COALESCE(o.promised_until, 0) >= c.promised_until')
    .where({ 'o.state': 'present' })
    .whereNot({ 'o.target_id': id });
  const row = await db('copy as c')
    .where({ 'c.target_id': id, 'c.state': 'present' })
    .where('c.promised_until', '>', now)
    .whereNotExists(asLong)
    .count({ n: '*' })
    .first<{ n: number }>();
  return Number(row.n);
}

/** Forgets a target: the catalog does not count it any more; what is on it stays as it is, and its key with the mover. `by`: who did it, for the trail. */
export async function forget(deps: Deps, id: string, by: string): Promise<void> {
  const kept = await whyKept(deps, id);
  if (kept) throw new ApiError('NOT_NOW', undefined, `${kept} Nothing was changed.`);
  const now = deps.clock.now();
  await inTransaction(deps.db, async (trx) => {
    const { name } = await trx('target').where({ id }).forUpdate().first<{ name: string }>('name');
    const there = trx('copy').where({ target_id: id, state: 'present' }).select('point_id');
    await lose(trx, now, id, await trx('point').whereIn('id', there).select<{ id: string; series_no: number }[]>('id', 'series_no'));
    await trx('target').where({ id }).delete();
    await trx('room_sample').where({ target_id: id }).delete();
    await appendAudit(trx, now, { actor: by, action: 'target.forget', object: `target ${id}`, detail: name });
  });
  await deps.events.emit('estate');
}

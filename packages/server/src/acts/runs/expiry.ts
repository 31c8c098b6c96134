import type { Knex } from 'knex';
import type { Keep } from '@lithodex/core';
import { dropUnneeded } from '../../records/catalog/load';
import type { PolicyBody } from '@lithodex/contract';
import { decideCopies, presentCopies, type RuleKeep, type SeriesKeep } from '../../records/catalog/copies';
import { keptPoints, type PointRow, type SeriesRow } from '../../records/catalog/points';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { summarizePoints } from '../../records/catalog/point-summary';
import { queueRun, type NewTask } from './queue';
import { bodyOf, ruleOf } from '../../records/policies/matching';
import type { TargetRow } from '../../records/targets/target-rows';

/** A policy as it would be. */
export interface ChangedPolicy {
  readonly id: number;
  readonly body: PolicyBody;
}

const byHand: RuleKeep = { policyId: null, ruleNo: 1, keep: { by: 'hand' }, targetId: null, copies: [], zone: 'UTC', ended: false };

/** The newest point of a log holds what those before it held: for how long that reaches back is settled when it is taken. */
const newestOfLog: Keep = { by: 'points', points: 2 };

/** The policies that made points, in force or ended, each read when it is first asked for. Of one request: what they say may change. */
export class KeepRules {
  private readonly known = new Map<number, { readonly body: PolicyBody; readonly ended: boolean }>();

  private constructor(
    private readonly rows: ReadonlyMap<number, { readonly body: unknown; readonly ended: 0 | 1 }>,
    private readonly changed: ChangedPolicy | undefined,
  ) {}

  /** `changed` stands for a policy in force. */
  static async read(db: Knex, changed?: ChangedPolicy): Promise<KeepRules> {
    const rows = await db('policy').select<{ id: number; body: unknown; ended: 0 | 1 }[]>('id', 'body', 'ended');
    return new KeepRules(new Map(rows.map((r) => [r.id, r])), changed);
  }

  private policy(id: number) {
    const row = this.rows.get(id);
    if (!row) return undefined;
    const policy = this.known.get(id) ?? { body: id === this.changed?.id ? this.changed.body : bodyOf(row.body), ended: row.ended === 1 };
    this.known.set(id, policy);
    return policy;
  }

  /** By what the points of a series are kept: each by the rule that made it; those that no policy made by the rule that made the newest; where there is none, until a person removes them. */
  of(series: SeriesRow, points: readonly PointRow[]): SeriesKeep {
    const newest = points.findLast((p) => p.policy_id !== null);
    const rules = new Map<string, RuleKeep>();
    return (point) => {
      const maker = point.policy_id === null ? newest : point;
      const policy = maker && this.policy(maker.policy_id!);
      if (!policy) return byHand;
      const { body, ended } = policy;
      const { no, kind, keep, targetId, copies } = ruleOf(body, maker.rule_no, series.target_id);
      const key = `${maker.policy_id}/${no}`;
      const rule = rules.get(key) ?? {
        policyId: maker.policy_id,
        ruleNo: no,
        keep: kind === 'log' ? newestOfLog : keep,
        targetId,
        copies: kind === 'log' ? copies.map((c) => ({ ...c, keep: newestOfLog })) : copies,
        zone: body.zone,
        ended,
      };
      rules.set(key, rule);
      return rule;
    };
  }
}

/** What a task of expiry keeps. */
export interface ExpirePlan {
  readonly targetId: string;
  readonly points: readonly string[];
}

/** Only its owner lets go what stands on a store. */
async function isOfAnother(trx: Knex.Transaction, targetId: string): Promise<boolean> {
  type Row = Pick<TargetRow, 'follows_every' | 'owned_elsewhere'>;
  const target = await trx('target').where({ id: targetId }).first<Row | undefined>('follows_every', 'owned_elsewhere');
  return target !== undefined && (target.follows_every !== null || target.owned_elsewhere !== null);
}

/** Lets the copies of a series go that retention no longer keeps. A point whose last copy went is expired: its items leave the catalog. Their roots stay until {@link queueRemovals} asks for it. */
export async function letGo(trx: Knex.Transaction, now: number, series: SeriesRow): Promise<void> {
  const workload = await trx('workload').where({ id: series.workload_id }).first<{ frozen: 0 | 1 }>('frozen');
  const points = await keptPoints(trx, series.no);
  const ids = points.map((p) => p.id);
  const copies = await presentCopies(trx, ids);
  const decisions = decideCopies(series, points, copies, (await KeepRules.read(trx)).of(series, points), now, workload.frozen === 1);
  let some = false;
  for (const [targetId, own] of decisions) {
    const going = [...own.values()].filter((d) => d.expires).map((d) => d.id);
    if (!going.length || (await isOfAnother(trx, targetId))) continue;
    some = true;
    await trx('copy').whereIn('point_id', going).where({ target_id: targetId }).update({ state: 'leaving', gone_at: now });
  }
  if (some) await expireLost(trx, now, series, points);
}

/** Points of a series of which no copy is left leave the catalog. */
export async function expireLost(trx: Knex.Transaction, now: number, series: SeriesRow, points: readonly PointRow[]): Promise<void> {
  const ids = points.map((p) => p.id);
  const left = await presentCopies(trx, ids);
  const gone = points.filter((p) => !left.has(p.id));
  for (const point of gone) {
    await trx('point').where({ id: point.id }).update({ state: 'expired', expired_at: now });
    await dropUnneeded(trx, series.no, point.ordinal);
  }
  if (gone.length) await summarizePoints(trx, series.workload_id);
}

/** Queues the removal of the roots of what was let go. */
async function queueRemovals(trx: Knex.Transaction, now: number, series: SeriesRow): Promise<boolean> {
  const leaving = await trx('copy as c')
    .join('point as p', 'p.id', 'c.point_id')
    .where({ 'p.series_no': series.no, 'c.state': 'leaving' })
    .select<{ id: string; target: string }[]>('p.id', 'c.target_id as target');
  if (!leaving.length) return false;
  const tasks = [...new Set(leaving.map((c) => c.target))].map((targetId): NewTask => {
    const work: ExpirePlan = { targetId, points: leaving.filter((c) => c.target === targetId).map((c) => c.id) };
    return { workloadId: series.workload_id, seriesNo: series.no, type: 'expire', work };
  });
  const { name } = await trx('workload').where({ id: series.workload_id }).first<{ name: string }>('name');
  await queueRun(trx, now, { kind: 'expire', startedBy: 'schedule', name: `Expiry of ${name}`, person: '', tasks });
  await trx('copy')
    .whereIn(
      'point_id',
      leaving.map((c) => c.id),
    )
    .where({ state: 'leaving' })
    .update({ state: 'gone' });
  return true;
}

/** So long all points of a log stay known that were let go: one that is followed makes thousands a day. */
const allKnownMs = 86_400_000;
const hourMs = 3_600_000;
const lookedThrough = 20_000;

/** Forgets points of a log that were let go a while ago and whose roots are removed, all but the last of each hour: reports ask how old the newest one was. */
export async function forgetOfLog(trx: Knex.Transaction, now: number, series: SeriesRow): Promise<void> {
  if (series.method !== 'log') return;
  const old = await trx('point as p')
    .where({ 'p.series_no': series.no, 'p.state': 'expired' })
    .where('p.expired_at', '<', now - allKnownMs)
    .whereNotExists(trx('copy as c').whereRaw('c.point_id = p.id').whereNot('c.state', 'gone'))
    .orderBy('p.moment', 'desc')
    .limit(lookedThrough)
    .select<{ id: string; moment: number }[]>('p.id', 'p.moment');
  const hours = new Set<number>();
  const ids = old.flatMap(({ id, moment }) => {
    const hour = Math.floor(moment / hourMs);
    if (hours.has(hour)) return [id];
    hours.add(hour);
    return [];
  });
  await trx('copy').whereIn('point_id', ids).delete();
  await trx('point').whereIn('id', ids).delete();
}

/** Lets go what retention no longer keeps of a series, and has it removed from its targets. */
export async function expireSeries(deps: Deps, seriesNo: number): Promise<void> {
  const now = deps.clock.now();
  const workloadId = await inTransaction(deps.db, async (trx) => {
    const series = await trx('series').where({ no: seriesNo }).forUpdate().first<SeriesRow | undefined>();
    if (!series) return undefined;
    await letGo(trx, now, series);
    return (await queueRemovals(trx, now, series)) ? series.workload_id : undefined;
  });
  if (workloadId === undefined) return;
  await deps.events.emit('point', { workloadId });
  deps.movers.workAppeared();
}

/** Expiry over everything. */
export async function expireAll(deps: Deps): Promise<void> {
  for (const { no } of await deps.db('series').select<{ no: number }[]>('no')) await expireSeries(deps, no);
}

import type { PolicyBody, PolicyRule } from '@lithodex/contract';
import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { ApiError, found } from '../../base/errors';
import { expireAll } from '../runs/expiry';
import { shownPlace, type TargetRow } from '../../records/targets/target-rows';
import { assign, matchesOf, policiesInForce, versioned, type PolicyRow } from '../../records/policies/matching';
import { recordPromises, takeBackPromises } from './promises';
import { followed } from '../../records/policies/timetable';
import { rememberVersion } from '../../records/policies/versions';

/** A policy in force. Throws NOT_FOUND. */
export async function policyOf(deps: Deps, id: number): Promise<PolicyRow> {
  return found((await policiesInForce(deps.db)).find((p) => p.id === id));
}

/** Throws INVALID or NAME_TAKEN for a policy that can't be put in force. */
export async function checkBody(deps: Deps, body: PolicyBody, own: number | null): Promise<void> {
  for (const [i, rule] of body.rules.entries()) await checkTargets(deps.db, rule, `body.rules.${i}`);
  await matchesOf(deps.db, body);
  const known = await deps.db('workload').whereIn('id', body.workloads).count({ n: '*' }).first<{ n: number }>();
  if (Number(known?.n) !== new Set(body.workloads).size)
    throw new ApiError('INVALID', [{ at: 'body.workloads' }], 'A chosen workload does not exist. Nothing was changed.');
  await checkFollowed(deps, body, own);
  const taken = await deps.db('policy').where({ name: body.name, ended: false }).first<{ id: number } | undefined>();
  if (taken && taken.id !== own) throw new ApiError('NAME_TAKEN');
}

/** Takes the name of a policy within the caller's transaction: of many who want it at once, one gets it. Throws NAME_TAKEN. */
export async function takeName(trx: Knex.Transaction, name: string, own: number | null): Promise<void> {
  // an exclusive lock at once: sharing the row first and then wanting it alone would be a deadlock
  await trx.raw("INSERT INTO setting (name, value) VALUES ('policy-names', '{}') ON DUPLICATE KEY UPDATE value = VALUES(value)");
  const taken = await trx('policy').where({ name, ended: false }).first<{ id: number } | undefined>('id');
  if (taken && taken.id !== own) throw new ApiError('NAME_TAKEN');
}

/** Throws INVALID for a rule that writes or copies where it can't. `at`: where it stands in the body. */
async function checkTargets(db: Knex, { targetId, copies, lockDays }: PolicyRule, at: string): Promise<void> {
  const refuse = (field: string, why: string) => new ApiError('INVALID', [{ at: `${at}.${field}` }], `${why} Nothing was changed.`);
  const target = await db('target').where({ id: targetId }).whereNull('retired_to').first<TargetRow | undefined>();
  if (!target) throw refuse('targetId', 'The target does not exist or is being given up.');
  if (target.follows_every !== null) throw refuse('targetId', `${target.name} belongs to another installation, which is followed.`);
  if (shownPlace(target).kind === 'cartridges') throw refuse('targetId', `${target.name} is a set of cartridges, which take copies.`);
  const others = await db('target')
    .whereIn(
      'id',
      copies.map((c) => c.targetId),
    )
    .whereNot({ id: targetId })
    .whereNull('retired_to')
    .whereNull('follows_every')
    .select('id');
  if (others.length !== copies.length) throw refuse('copies', 'Copies go to other targets that are in use, each once.');
  for (const kept of [{ targetId, lockDays }, ...copies]) if (kept.lockDays) await checkLocks(db, kept.targetId);
}

/** Throws INVALID for a policy with a rule that follows none, or that comes round to itself. */
async function checkFollowed(deps: Deps, body: PolicyBody, own: number | null): Promise<void> {
  const inForce = await policiesInForce(deps.db);
  const chain = followed(body, inForce);
  const refuse = (why: string) => new ApiError('INVALID', [{ at: 'body.rules' }], `${why} Nothing was changed.`);
  const lost = body.rules.some(({ schedule }) => schedule.every === 'after' && !inForce.some((p) => p.id === schedule.policyId));
  if (lost) throw refuse('The policy it is to follow is not in force.');
  const round = chain.find((p) => p.id === own);
  if (round) throw refuse(`It would wait for itself: ${chain.map((p) => p.body.name).join(' follows ')}.`);
}

/** Starts the clocks of a policy's rules anew: what was due before `now` (ms) is not made good. */
export async function startClocks(trx: Knex.Transaction, policyId: number, { rules }: PolicyBody, now: number): Promise<void> {
  await trx('policy_clock').where({ policy_id: policyId }).delete();
  await trx('policy_clock').insert(rules.map((r) => ({ policy_id: policyId, rule_no: r.no, last_due: now })));
}

/** Throws INVALID for a target that can't lock. */
export async function checkLocks(db: Knex, targetId: string): Promise<void> {
  const target = await db('target').where({ id: targetId }).first<TargetRow>();
  const place = shownPlace(target);
  const why =
    place.kind === 'cartridges' ? 'a set of cartridges' : place.kind === 'bucket' && !place.locks ? 'a bucket without object lock' : '';
  if (why)
    throw new ApiError(
      'INVALID',
      [{ at: 'body.lockDays' }],
      `${target.name} is ${why}, so nothing can be locked there. Nothing was changed.`,
    );
}

/**
 * Puts a changed policy in force: what it matches is assigned, and what it no longer keeps goes, as far as it was not promised more. `by`: who did it, for the trail; `agreed`: two people did, so that what was promised
 * and is not kept any more is taken back.
 */
export async function putInForce(deps: Deps, id: number, body: PolicyBody, by: string, agreed = false): Promise<void> {
  const { db, clock } = deps;
  await policyOf(deps, id);
  await checkBody(deps, body, id);
  await inTransaction(db, async (trx) => {
    const now = clock.now();
    await takeName(trx, body.name, id);
    if (agreed) await takeBackPromises(trx, now, id, body);
    await versioned(trx, now, async () => {
      await trx('policy')
        .where({ id })
        .update({ name: body.name, body: JSON.stringify(body) });
    });
    await startClocks(trx, id, body, now);
    await rememberVersion(trx, id, now, by, body);
    const serieses = await trx('point')
      .where({ policy_id: id, state: 'visible' })
      .distinct('series_no')
      .select<{ series_no: number }[]>('series_no');
    for (const { series_no } of serieses) await recordPromises(trx, now, series_no);
    await assign(
      trx,
      now,
      id,
      (await matchesOf(trx, body)).map((m) => m.id),
    );
    await appendAudit(trx, now, { actor: by, action: 'policy.change', object: `policy ${id}`, detail: JSON.stringify(body) });
  });
  await expireAll(deps);
  await deps.events.emit('policy');
}

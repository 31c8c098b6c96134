import { createHash } from 'node:crypto';
import { sequenceMoves } from '@lithodex/core';
import type { Cause, RestoreBody, RunState, SequenceStep, StepWent } from '@lithodex/contract';
import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import { fromJsonOrNull } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import { ApiError } from '../../base/errors';
import {
  bodyOfSequence,
  stepsWent,
  tookOf,
  underWay,
  type SequenceRecord,
  type SequenceRunRecord,
} from '../../records/recover/sequence-rows';
import { bodyOfStanding, type StandingRecord } from '../../records/recover/standing-rows';
import { madePoints } from '../../records/runs/run-state';
import type { Deps } from '../deps';
import { stopRun } from '../runs/stop-run';
import { beingDrilled, cannotDrill, drillable, queueDrills } from '../trust/drills';
import { newestWanted, type Wanted } from './newest-wanted';
import { actorFor, beginStanding, goesOn } from './standing';
import { startRestore } from './start-restore';

type Also = (trx: Knex.Transaction, runId: number) => Promise<void>;

/** What a step is of, by its name; undefined for what nobody knows any more. What is gone from its system is what has to come back. */
export async function namesOfSteps(db: Knex, steps: readonly Pick<SequenceStep, 'restore'>[]): Promise<(string | undefined)[]> {
  const ids = (by: SequenceStep['restore']['by']) => steps.flatMap(({ restore }) => (restore.by === by ? [restore.id] : []));
  const workloads = await db('workload').whereIn('id', ids('workload')).select<{ id: number; name: string }[]>('id', 'name');
  const standing = await db('standing_restore')
    .whereIn('no', ids('standing'))
    .where({ ended: false })
    .select<{ id: number; name: string }[]>('no as id', 'name');
  const known = { workload: new Map(workloads.map((w) => [w.id, w.name])), standing: new Map(standing.map((s) => [s.id, s.name])) };
  return steps.map(({ restore }) => known[restore.by].get(restore.id));
}

/** Begins a sequence: as a trial, by drills, or as it is. Its steps go on by themselves. Throws NOT_NOW while one of its runs goes on. */
export async function beginSequence(deps: Deps, row: SequenceRecord, trial: boolean, person: string, reason: string): Promise<number> {
  const { steps, objective } = bodyOfSequence(row);
  const names = await namesOfSteps(deps.db, steps);
  const now = deps.clock.now();
  const went = steps.map((s, i): StepWent => ({
    ...s,
    name: names[i] ?? 'what is gone',
    state: 'waiting',
    runId: null,
    beganAt: null,
    endedAt: null,
    says: '',
  }));
  const id = await inTransaction(deps.db, async (trx) => {
    await trx('restore_sequence').where({ id: row.id }).forUpdate().first('id');
    if (await trx('sequence_run').where({ sequence_id: row.id, state: 'running' }).first('id'))
      throw new ApiError('NOT_NOW', undefined, `${row.name} goes on already: see how it went.`);
    const [no] = await trx('sequence_run').insert({
      sequence_id: row.id,
      name: row.name,
      trial,
      person,
      reason,
      state: 'running',
      at: now,
      objective_ms: objective === null ? null : objective * 60_000,
      steps: JSON.stringify(went),
    });
    const action = trial ? 'sequence.try' : 'sequence.start';
    await appendAudit(trx, now, { actor: person, action, object: row.name, detail: JSON.stringify({ run: no, reason }) });
    return no!;
  });
  await moveSequence(deps, id);
  return id;
}

/** Begins what is due in all sequences that go on. One that can't go on now keeps no other from it. */
export async function moveSequences(deps: Deps): Promise<void> {
  for (const { id } of await deps.db('sequence_run').where({ state: 'running' }).select<{ id: number }[]>('id')) {
    try {
      await moveSequence(deps, id);
    } catch (error) {
      deps.log.warn({ err: error, sequence: id }, 'a sequence could not go on');
    }
  }
}

/** Notes which steps have ended, begins those whose turn it is, and ends the sequence where nothing is left. */
async function moveSequence(deps: Deps, id: number): Promise<void> {
  const due = await inTransaction(deps.db, async (trx) => {
    const row = await lockRun(trx, id);
    if (row?.state !== 'running') return undefined;
    const before = JSON.stringify(stepsWent(row));
    const steps = await Promise.all(stepsWent(row).map((step) => noteEnd(trx, step)));
    const moves = sequenceMoves(underWay(steps), row.at, deps.clock.now());
    steps.forEach((step, i) => {
      if (moves.blocked.includes(i)) steps[i] = { ...step, state: 'blocked', says: waitsFor(steps, step) };
      else if (step.state === 'blocked') steps[i] = { ...step, state: 'waiting', says: '' };
    });
    if (moves.over) await end(deps, trx, row, steps);
    else if (JSON.stringify(steps) !== before) await keepSteps(trx, id, steps);
    return { row, steps, begin: moves.begin };
  });
  for (const i of due?.begin ?? []) await beginStep(deps, due!.row, i, due!.steps[i]!);
}

const lockRun = (trx: Knex.Transaction, id: number): Promise<SequenceRunRecord | undefined> =>
  trx('sequence_run').where({ id }).forUpdate().first<SequenceRunRecord | undefined>();

const keepSteps = (trx: Knex.Transaction, id: number, steps: readonly StepWent[], more: object = {}) =>
  trx('sequence_run')
    .where({ id })
    .update({ steps: JSON.stringify(steps), ...more });

/** Of a step that runs while its sequence is stopped. */
const beingStopped = 'It is being stopped.';

/** A step that ran, once its run has ended. */
async function noteEnd(trx: Knex.Transaction, step: StepWent): Promise<StepWent> {
  if (step.state !== 'running' || step.runId === null) return step;
  const run = await trx('run')
    .where({ id: step.runId })
    .first<{ state: RunState; ended_at: number | null } | undefined>('state', 'ended_at');
  if (run?.ended_at === null) return step;
  if (run && madePoints.includes(run.state)) return { ...step, state: 'back', endedAt: run.ended_at, says: '' };
  const failed = await trx('task')
    .where({ run_id: step.runId })
    .whereNotNull('cause')
    .orderBy('ended_at')
    .first<{ cause: unknown } | undefined>('cause');
  const says = fromJsonOrNull<Cause>(failed?.cause ?? null)?.message ?? `Its run ended: ${run?.state ?? 'gone'}.`;
  // one that somebody stopped alone can be tried again
  return { ...step, state: step.says === beingStopped ? 'stopped' : 'failed', endedAt: run?.ended_at ?? null, says };
}

function waitsFor(steps: readonly StepWent[], { after }: StepWent): string {
  const missing = after.filter((j) => steps[j]!.state !== 'back' && steps[j]!.state !== 'passedOver').map((j) => steps[j]!.name);
  return `It waits for ${missing.join(', ')}, which did not come back.`;
}

/** Closes a time of a sequence. The sum of how it went goes into the audit trail. */
async function end({ clock }: Deps, trx: Knex.Transaction, row: SequenceRunRecord, steps: readonly StepWent[]): Promise<void> {
  const took = tookOf(row.at, steps);
  const tooSlow = took !== null && row.objective_ms !== null && took > row.objective_ms;
  const state = steps.some((s) => s.state === 'stopped') ? 'stopped' : took === null || (row.trial === 1 && tooSlow) ? 'failed' : 'done';
  const now = clock.now();
  await keepSteps(trx, row.id, steps, { state, ended_at: now });
  const sum = createHash('sha256')
    .update(JSON.stringify({ steps, took, objective: row.objective_ms }))
    .digest('hex');
  const detail = JSON.stringify({ run: row.id, trial: row.trial === 1, state, took, sum });
  await appendAudit(trx, now, { actor: row.person, action: 'sequence.end', object: row.name, detail });
}

/** Begins one step, unless somebody else has; what keeps it from beginning ends it as failed. */
async function beginStep(deps: Deps, row: SequenceRunRecord, i: number, step: StepWent): Promise<void> {
  const also: Also = async (trx, runId) => {
    const now = await lockRun(trx, row.id);
    const steps = now ? stepsWent(now) : [];
    if (now?.state !== 'running' || steps[i]?.state !== 'waiting') throw new ApiError('NOT_NOW', undefined, 'The step has begun already.');
    steps[i] = { ...steps[i], state: 'running', runId, beganAt: deps.clock.now(), says: '' };
    await keepSteps(trx, row.id, steps);
  };
  try {
    await (row.trial === 1 ? tryStep(deps, row, step, also) : startStep(deps, row, step, also));
  } catch (error) {
    if (!(error instanceof ApiError)) {
      // the next round tries it again, and what stands beside it begins
      deps.log.warn({ err: error, sequence: row.id, step: i }, 'a step of a sequence could not begin');
      return;
    }
    await inTransaction(deps.db, async (trx) => {
      const now = await lockRun(trx, row.id);
      const steps = now ? stepsWent(now) : [];
      if (steps[i]?.state !== 'waiting') return;
      steps[i] = { ...steps[i], state: 'failed', endedAt: deps.clock.now(), says: error.message };
      await keepSteps(trx, row.id, steps);
    });
    await moveSequence(deps, row.id);
  }
}

const standingOf = async (db: Knex, no: number): Promise<StandingRecord> => {
  const row = await db('standing_restore').where({ no, ended: false }).first<StandingRecord | undefined>();
  if (!row) throw new ApiError('NOT_NOW', undefined, 'The repeated restore is not there any more.');
  return row;
};

/** What a step brings back. Throws NOT_NOW for a repeated restore that has ended. */
const workloadsOfStep = async (db: Knex, { restore }: Pick<SequenceStep, 'restore'>): Promise<readonly number[]> =>
  restore.by === 'workload' ? [restore.id] : bodyOfStanding(await standingOf(db, restore.id)).workloads;

/** Drills all that the step is of. One that is being drilled already is waited for. */
async function tryStep(deps: Deps, row: SequenceRunRecord, step: StepWent, also: Also): Promise<void> {
  const { db, clock } = deps;
  const workloads = await workloadsOfStep(db, step);
  const runId = await inTransaction(db, async (trx) => {
    const open = await beingDrilled(trx);
    if (workloads.some((w) => open.has(w))) return undefined;
    const found = await drillable(trx, workloads);
    if (found.length < new Set(workloads).size)
      throw new ApiError('NOT_NOW', undefined, `There is no point of ${step.name} that could be brought back.`);
    const why = found.map(cannotDrill).find((text) => text !== '');
    if (why !== undefined) throw new ApiError('NOT_NOW', undefined, why);
    const id = await queueDrills(trx, clock.now(), workloads, { person: row.person, name: row.name });
    await also(trx, id);
    return id;
  });
  if (runId === undefined) return;
  deps.movers.workAppeared();
  await deps.events.emit('run', { runId });
}

/** The restore of a workload to where it was, over what is there. No point is taken before: what it would be of is what was lost. */
export const homeRestore = (name: string, { point, until }: Pick<Wanted, 'point' | 'until'>, reason: string): RestoreBody => ({
  name,
  picks: [{ pointId: point.id, path: '' }],
  destination: { to: 'original', removeFirst: false },
  until,
  rule: 'replace',
  start: true,
  readFrom: null,
  rescue: false,
  reason,
  despiteInfected: false,
  leavesPlace: false,
  trial: false,
});

async function startStep(deps: Deps, row: SequenceRunRecord, step: StepWent, also: Also): Promise<void> {
  if (step.restore.by === 'standing') {
    const standing = await standingOf(deps.db, step.restore.id);
    // its own time goes on: this step waits for it
    if (!(await goesOn(deps.db, standing.no)))
      await beginStanding(deps, standing, 'hand', row.person, bodyOfStanding(standing).workloads, also);
    return;
  }
  const wanted = await newestWanted(deps, step.restore.id);
  await startRestore(deps, homeRestore(row.name, wanted, row.reason), actorFor(`sequence ${row.id}`, row.person), also);
}

/** Begins no further step of a time that goes on or waits for a decision, and stops what runs. Throws NOT_NOW where it has ended. */
export async function stopSequence(deps: Deps, id: number, person: string): Promise<void> {
  const runs = await inTransaction(deps.db, async (trx) => {
    const row = await lockRun(trx, id);
    const isLeft = row?.state === 'failed' && row.trial === 0;
    if (row?.state !== 'running' && !isLeft) throw new ApiError('NOT_NOW', undefined, 'It has ended already.');
    const now = deps.clock.now();
    const steps = stepsWent(row).map((s): StepWent => {
      if (s.state === 'running') return { ...s, says: beingStopped };
      return s.state === 'waiting' || s.state === 'blocked' ? { ...s, state: 'stopped', endedAt: now } : s;
    });
    const running = steps.flatMap((s) => (s.state === 'running' && s.runId !== null ? [s.runId] : []));
    await keepSteps(trx, id, steps, isLeft ? { state: 'stopped' } : {});
    for (const runId of running) await stopRun(deps, trx, runId);
    await appendAudit(trx, now, { actor: person, action: 'sequence.stop', object: row.name, detail: `run ${id}` });
    return running;
  });
  for (const runId of runs) await deps.events.emit('run', { runId });
  await moveSequence(deps, id);
}

/** Tries a step again that failed, or goes on without it. Throws NOT_NOW for a trial, and for a step that did not fail. */
export async function moveStep(deps: Deps, id: number, at: number, how: 'again' | 'without', person: string): Promise<void> {
  await inTransaction(deps.db, async (trx) => {
    const row = await lockRun(trx, id);
    if (!row) throw new ApiError('NOT_FOUND');
    if (row.trial === 1) throw new ApiError('NOT_NOW', undefined, 'A trial shows what is so: mend it, and try the sequence again.');
    if (row.state === 'stopped') throw new ApiError('NOT_NOW', undefined, 'It was stopped: start the sequence again.');
    const steps = stepsWent(row);
    const step = steps[at];
    if (step?.state !== 'failed') throw new ApiError('NOT_NOW', undefined, 'Only a step that failed is tried again or passed over.');
    const now = deps.clock.now();
    steps[at] =
      how === 'again'
        ? { ...step, state: 'waiting', runId: null, beganAt: null, endedAt: null, says: '' }
        : { ...step, state: 'passedOver', endedAt: now };
    await keepSteps(trx, id, steps, { state: 'running', ended_at: null });
    const detail = JSON.stringify({ run: id, step: step.name, why: step.says });
    await appendAudit(trx, now, {
      actor: person,
      action: how === 'again' ? 'sequence.again' : 'sequence.without',
      object: row.name,
      detail,
    });
  });
  await moveSequence(deps, id);
}

import { escapePath } from '@lithodex/core';
import type { AskedItem, Asking, AskingState, Receipt } from '@lithodex/contract';
import type { TenantFacts } from '@lithodex/kinds';
import type { Knex } from 'knex';
import { fromJson } from '../../base/db/json';
import { sumsOf, tasksOf, type RunRecord } from '../runs/run-rows';

/** A link, or a restore that somebody is told about, as it is kept. */
export interface AskingRow {
  readonly id: number;
  readonly workload_id: number;
  readonly workload: string;
  readonly facts: unknown;
  /** Of the link; null where there is none. */
  readonly hash: string | null;
  readonly made_by: string;
  readonly made_at: number;
  readonly ends_at: number;
  readonly state: Exclude<AskingState, 'ended'>;
  readonly note: string;
  readonly words: string;
  readonly asked_at: number | null;
  readonly point_id: string | null;
  readonly items: unknown;
  readonly run_id: number | null;
  readonly decided_by: string;
  readonly why: string;
  readonly tell_tries: number;
}

const mostProblems = 50;

/** Askings with the names of whom they are for, newest first. */
export function askingRows(db: Knex) {
  return db('asking as a')
    .join('workload as w', 'w.id', 'a.workload_id')
    .orderBy('a.id', 'desc')
    .select<AskingRow[]>('a.*', 'w.name as workload', 'w.facts');
}

/** How an asking stands: one that nothing was said to in time has ended. */
export const stateAt = ({ state, ends_at }: Pick<AskingRow, 'state' | 'ends_at'>, now: number): AskingState =>
  state === 'sent' && ends_at <= now ? 'ended' : state;

/** Where mail for a member goes; '' for nowhere. */
export const mailOf = (facts: unknown): string => fromJson<TenantFacts>(facts).mail;

/** What a restore brought back, as far as is known. */
export async function receiptOf(db: Knex, runId: number): Promise<Receipt | null> {
  const run = await db('run').where({ id: runId }).first<RunRecord | undefined>();
  if (!run) return null;
  const tasks = await tasksOf(db, [runId]);
  const { counts, cause } = sumsOf(tasks);
  const failed = await db('log_line')
    .where({ run_id: runId, level: 'fault' })
    .whereNot('path', '')
    .orderBy('seq')
    .limit(mostProblems)
    .select<{ path: Buffer; message: string }[]>('path', 'message');
  const problems = failed.map(({ path, message }) => ({ what: escapePath(path.toString('latin1')), why: message }));
  if (!problems.length && cause) problems.push({ what: '', why: cause.message });
  const { id, state, ended_at } = run;
  return { runId: id, state, at: ended_at, items: counts.items - counts.failed, failed: counts.failed, problems };
}

/** An asking as it is shown. */
export async function shownAsking(db: Knex, row: AskingRow, now: number): Promise<Asking> {
  const point = row.point_id === null ? undefined : await db('point').where({ id: row.point_id }).first<{ moment: number }>('moment');
  return {
    id: row.id,
    workload: { id: row.workload_id, name: row.workload },
    by: row.made_by,
    madeAt: row.made_at,
    endsAt: row.ends_at,
    state: stateAt(row, now),
    note: row.note,
    words: row.words,
    askedAt: row.asked_at,
    pointId: row.point_id,
    moment: point?.moment ?? null,
    items: fromJson<AskedItem[]>(row.items),
    decidedBy: row.decided_by,
    why: row.why,
    receipt: row.run_id === null ? null : await receiptOf(db, row.run_id),
  };
}

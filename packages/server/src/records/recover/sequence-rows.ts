import { sequenceMoves, type StepUnderWay } from '@lithodex/core';
import type { SequenceBody, SequenceRun, SequenceRunState, StepWent } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJson } from '../../base/db/json';

/** A sequence as it is kept. */
export interface SequenceRecord {
  readonly id: number;
  readonly name: string;
  readonly body: unknown;
  readonly person: string;
  readonly changed_at: number;
}

/** One time that a sequence was tried or started. */
export interface SequenceRunRecord {
  readonly id: number;
  readonly sequence_id: number;
  readonly name: string;
  readonly trial: 0 | 1;
  readonly person: string;
  readonly reason: string;
  readonly state: SequenceRunState;
  readonly at: number;
  readonly ended_at: number | null;
  readonly objective_ms: number | null;
  readonly steps: unknown;
}

export const bodyOfSequence = (row: Pick<SequenceRecord, 'body'>): SequenceBody => fromJson<SequenceBody>(row.body);
export const stepsWent = (row: Pick<SequenceRunRecord, 'steps'>): StepWent[] => fromJson<StepWent[]>(row.steps);

const minuteMs = 60_000;
export const underWay = (steps: readonly StepWent[]): StepUnderWay[] => steps.map((s) => ({ ...s, waitMs: s.wait * minuteMs }));

/** How long it took until all of it was back; null where not all of it is. */
export function tookOf(at: number, steps: readonly StepWent[]): number | null {
  if (!steps.every((s) => s.state === 'back' || s.state === 'passedOver')) return null;
  return Math.max(0, ...steps.map((s) => (s.endedAt ?? at) - at));
}

export function toSequenceRun(row: SequenceRunRecord, now: number): SequenceRun {
  const steps = stepsWent(row);
  return {
    id: row.id,
    sequence: { id: row.sequence_id, name: row.name },
    trial: row.trial === 1,
    by: row.person,
    reason: row.reason,
    state: row.state,
    at: row.at,
    endedAt: row.ended_at,
    tookMs: tookOf(row.at, steps),
    objectiveMs: row.objective_ms,
    steps,
    nextAt: row.state === 'running' ? sequenceMoves(underWay(steps), row.at, now).nextAt : null,
  };
}

/** The newest run of each sequence, tried or started as it is. */
export async function newestRuns(db: Knex, trial: boolean): Promise<Map<number, SequenceRunRecord>> {
  const newest = db('sequence_run').where({ trial }).groupBy('sequence_id').max('id as id').as('n');
  const rows = await db('sequence_run as r').join(newest, 'n.id', 'r.id').select<SequenceRunRecord[]>('r.*');
  return new Map(rows.map((r) => [r.sequence_id, r]));
}

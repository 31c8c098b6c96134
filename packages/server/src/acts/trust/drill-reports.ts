import { countOf } from '@lithodex/core';
import type { DrillTold } from '@lithodex/contract';
import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import { fromJson } from '../../base/db/json';
import type { RunningTask } from '../../records/movers/running-task';
import { evidenceSum, passedOf, type DrillEvidence } from '../../records/trust/drill-rows';
import type { DrillTask } from './drills';

/** Keeps what came of a drill, with its sum in the audit trail. What was kept stays: it is told once. */
export async function keepDrill(trx: Knex.Transaction, now: number, task: RunningTask, { attempt: _, ...told }: DrillTold): Promise<void> {
  if (await trx('drill').where({ id: task.id }).first('id')) return;
  const { pointId, objective } = fromJson<DrillTask>(task.work);
  const { moment } = await trx('point').where({ id: pointId }).first<{ moment: number }>('moment');
  const { name } = await trx('workload').where({ id: task.workload_id! }).first<{ name: string }>('name');
  const { person } = await trx('run').where({ id: task.run_id }).first<{ person: string }>('person');
  const evidence: DrillEvidence = {
    ...told,
    workload: name,
    pointId,
    pointMoment: moment,
    at: now,
    by: person,
    mover: task.mover,
    objective,
  };
  const sum = evidenceSum(task.id, evidence);
  const passed = passedOf(told);
  await trx('drill').insert({
    id: task.id,
    run_id: task.run_id,
    workload_id: task.workload_id,
    point_id: pointId,
    at: now,
    passed,
    usable_ms: told.usableMs,
    evidence: JSON.stringify(evidence),
    sum,
  });
  const failed = told.results.filter((r) => !r.passed).length;
  const detail = JSON.stringify({ sum, workload: name, outcome: passed ? 'passed' : `${countOf(failed, 'thing')} not as it should be` });
  await appendAudit(trx, now, { actor: `mover ${task.mover}`, action: 'drill.done', object: `drill ${task.id}`, detail });
}

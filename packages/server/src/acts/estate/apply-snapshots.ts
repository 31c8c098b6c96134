import type { FoundSnapshot } from '@lithodex/contract';
import type { Knex } from 'knex';
import { v7 as newId } from 'uuid';

/** What has gone is known for so long, so that work that was to read it is told. */
const rememberedMs = 7 * 86_400_000;

/** Whether work is open that was to read a snapshot: it is told what became of it. */
async function stillWanted(trx: Knex.Transaction, sourceId: number): Promise<boolean> {
  const open = await trx('task')
    .whereIn('state', ['waiting', 'running'])
    .whereRaw("(JSON_VALUE(work, '$.snapshot') IS NOT NULL OR JSON_VALUE(work, '$.opens') = ?)", [sourceId])
    .first<{ id: string } | undefined>('id');
  return open !== undefined;
}

/** Brings what is known of the snapshots that the storages of a platform keep in line with what they keep. Machines that nobody knows are passed over. */
export async function applySnapshots(
  trx: Knex.Transaction,
  now: number,
  sourceId: number,
  snapshots: readonly FoundSnapshot[],
): Promise<void> {
  const known = await trx('storage_snapshot')
    .where({ source_id: sourceId })
    .forUpdate()
    .select<{ no: number; outer_id: string; gone_at: number | null }[]>('no', 'outer_id', 'gone_at');
  const there = new Set(snapshots.map((s) => s.id));
  const gone = known.filter((k) => !there.has(k.outer_id));
  const fresher = gone.filter((k) => k.gone_at === null).map((k) => k.no);
  if (fresher.length) await trx('storage_snapshot').whereIn('no', fresher).update({ gone_at: now });
  const forgotten = gone.filter((k) => k.gone_at !== null && k.gone_at < now - rememberedMs).map((k) => k.no);
  if (forgotten.length && !(await stillWanted(trx, sourceId))) {
    await trx('snapshot_machine').whereIn('snapshot_no', forgotten).delete();
    await trx('storage_snapshot').whereIn('no', forgotten).delete();
  }
  const before = new Set(known.map((k) => k.outer_id));
  const fresh = snapshots.filter((s) => !before.has(s.id));
  if (!fresh.length) return;
  const workloads = await trx('workload').where({ source_id: sourceId }).select<{ id: number; outer_id: string }[]>('id', 'outer_id');
  const idOf = new Map(workloads.map((w) => [w.outer_id, w.id]));
  for (const { id, storage, name, takenAt, machines } of fresh) {
    const [no] = await trx('storage_snapshot').insert({ source_id: sourceId, storage, outer_id: id, name, taken_at: takenAt });
    const rows = machines.flatMap((m) => {
      const workload = idOf.get(m.id);
      const row = { id: newId(), snapshot_no: no, outer_machine: m.id, machine: JSON.stringify(m.machine), bytes: m.bytes };
      return workload === undefined ? [] : [{ ...row, workload_id: workload }];
    });
    if (rows.length) await trx('snapshot_machine').insert(rows);
  }
}

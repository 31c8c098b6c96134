import type { StorageUse } from '@lithodex/contract';
import { BucketPoint, lookingPages } from '@lithodex/kinds';
import type { Knex } from 'knex';
import { fromJsonOrNull } from '../../base/db/json';

const dayMs = 86_400_000;
const days = 30;
/** So often buckets are looked for. */
export const lookForBucketsMs = 6 * 3_600_000;

interface PointRow {
  readonly id: number;
  readonly name: string;
  readonly facts: unknown;
  readonly read_bytes: number;
}

/** What the runs of thirty days asked of an object storage, by what their points tell. */
export async function storageUse(db: Knex, sourceId: number, now: number): Promise<StorageUse> {
  const points = await db('point as p')
    .join('workload as w', 'w.id', 'p.workload_id')
    .where({ 'w.source_id': sourceId })
    .where('p.moment', '>', now - days * dayMs)
    .orderBy('p.moment')
    .select<PointRow[]>('w.id', 'w.name', 'p.facts', 'p.read_bytes');
  const rows = new Map<number, StorageUse['rows'][number]>();
  for (const { id, name, facts, read_bytes } of points) {
    const point = BucketPoint.safeParse(fromJsonOrNull(facts)).data;
    if (!point) continue;
    const before = rows.get(id) ?? { runs: 0, lists: 0, reads: 0, facts: 0, bytes: 0 };
    rows.set(id, {
      workload: { id, name },
      runs: before.runs + 1,
      lists: before.lists + point.asked.lists,
      reads: before.reads + point.asked.reads,
      facts: before.facts + point.asked.facts,
      bytes: before.bytes + read_bytes,
      holds: { objects: point.objects, bytes: point.bytes },
    });
  }
  const looks = (days * dayMs) / lookForBucketsMs;
  const pages = [...rows.values()].reduce((sum, r) => sum + Math.min(lookingPages, Math.ceil(r.holds.objects / 1000) || 1), 0);
  return {
    days,
    rows: [...rows.values()].sort((a, b) => a.workload.name.localeCompare(b.workload.name)),
    looking: { lists: looks * (1 + pages), facts: looks * 2 * rows.size },
  };
}

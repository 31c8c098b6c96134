import { formatBytes } from '@lithodex/core';
import type { Deps } from '../deps';
import type { Findings, Period } from './make-report';

type Row = { workload_id: number; points: number; read: number; stored: number; first: number; last: number };

/** Points taken in the period by workload: size of the first and the last, what was read and written; what wrote most first. */
export async function growthReport({ db, estate }: Deps, { from, to }: Period): Promise<Findings> {
  const taken = () => db('point').whereIn('state', ['visible', 'expired']).where('moment', '>=', from).where('moment', '<', to);
  const sums = await taken()
    .groupBy('workload_id')
    .select<Row[]>(
      'workload_id',
      db.raw('COUNT(*) AS points, SUM(read_bytes) AS `read`, SUM(stored) AS stored, MIN(moment) AS first, MAX(moment) AS last'),
    );
  const ends = await db('point as p')
    .join(
      taken().groupBy('workload_id').select('workload_id', db.raw('MIN(moment) AS first, MAX(moment) AS last')).as('s'),
      's.workload_id',
      'p.workload_id',
    )
    .whereRaw('p.moment IN (s.first, s.last)')
    .select<{ workload_id: number; moment: number; bytes: number }[]>('p.workload_id', 'p.moment', 'p.bytes');
  const bytesAt = new Map(ends.map((e) => [`${e.workload_id} ${e.moment}`, e.bytes]));
  const known = new Map((await estate.workloads()).map((w) => [w.id, w]));
  const rows = sums
    .map((s) => {
      const [first, last] = [bytesAt.get(`${s.workload_id} ${s.first}`) ?? 0, bytesAt.get(`${s.workload_id} ${s.last}`) ?? 0];
      const w = known.get(s.workload_id);
      return {
        name: w?.name ?? '',
        source: w?.source.name ?? '',
        first,
        last,
        points: Number(s.points),
        read: Number(s.read),
        stored: Number(s.stored),
      };
    })
    .sort((a, b) => b.stored - a.stored || a.name.localeCompare(b.name));
  const [grown, written] = rows.reduce(([g, w], r) => [g + r.last - r.first, w + r.stored], [0, 0]);
  return {
    says: rows.length
      ? `Sizes ${grown < 0 ? `fell by ${formatBytes(-grown)}` : `grew by ${formatBytes(grown)}`}; ${formatBytes(written)} was written for it.`
      : 'No point was taken in this time.',
    columns: [
      { name: 'Workload', as: 'text' },
      { name: 'Source', as: 'text' },
      { name: 'Size, first point', as: 'bytes' },
      { name: 'Size, last point', as: 'bytes' },
      { name: 'Growth', as: 'share' },
      { name: 'Points', as: 'count' },
      { name: 'Read from the source', as: 'bytes' },
      { name: 'Written', as: 'bytes' },
    ],
    rows: rows.map((r) => [r.name, r.source, r.first, r.last, r.first ? (r.last - r.first) / r.first : null, r.points, r.read, r.stored]),
  };
}

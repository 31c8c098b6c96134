import type { Different } from '@lithodex/contract';
import { stringify } from 'csv-stringify/sync';
import { differenceCounts, differenceRows } from '../../records/catalog/difference';
import type { PointRow } from '../../records/catalog/points';
import { pointFor } from '../../records/recover/point-access';
import { ApiError } from '../../base/errors';
import type { Actor } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { numberAt } from '../../base/http/cursor';
import type { Deps } from '../../acts/deps';

/** What a CSV holds at most, and how much of it is read at once. */
const mostRows = 200_000;
const rowsAtOnce = 2000;

/** Two points of a workload beside each other. */
export function differenceHandlers({ db }: Deps): Pick<Handlers, 'difference' | 'differenceCsv'> {
  /** The two in the order of their moments. Throws INVALID for points that do not stand in one series. */
  async function both(id: string, other: string, actor: Actor): Promise<[PointRow, PointRow]> {
    const [one, two] = [await pointFor(db, id, actor), await pointFor(db, other, actor)];
    if (one.series_no !== two.series_no)
      throw new ApiError('INVALID', [{ at: 'query.with' }], 'Two points of the same workload on the same target can be compared.');
    return one.ordinal <= two.ordinal ? [one, two] : [two, one];
  }

  return {
    async difference({ params, query, actor }) {
      const [from, to] = await both(params.id, query.with, actor);
      const offset = numberAt(query.cursor, 0);
      const span = { from: from.ordinal, to: to.ordinal };
      const rows = await differenceRows(db, from.series_no, span, query.show, { offset, limit: query.limit + 1 });
      return {
        from: { pointId: from.id, moment: from.moment },
        to: { pointId: to.id, moment: to.moment },
        counts: offset === 0 ? await differenceCounts(db, from.series_no, from.ordinal, to.ordinal) : null,
        rows: rows.slice(0, query.limit),
        next: rows.length > query.limit ? String(offset + query.limit) : null,
      };
    },

    async differenceCsv({ params, query, actor, res }) {
      const [from, to] = await both(params.id, query.with, actor);
      const span = { from: from.ordinal, to: to.ordinal };
      const days = [from, to].map((p) => new Date(p.moment).toISOString().slice(0, 16).replace(':', ''));
      res.attachment(`difference-${days.join('-to-')}.csv`).type('text/csv');
      res.write(asCsv([['path', 'change', ...['then', 'after'].flatMap((side) => fields.map((field) => `${field} ${side}`))]]));
      for (let offset = 0; offset < mostRows && !res.closed; offset += rowsAtOnce) {
        const rows = await differenceRows(db, from.series_no, span, query.show, { offset, limit: rowsAtOnce });
        res.write(asCsv(rows.map((row) => [row.path, row.change, ...valuesOf(row.then), ...valuesOf(row.after)])));
        if (rows.length < rowsAtOnce) break;
      }
      res.end();
    },
  };
}

const asCsv = (rows: readonly (readonly (string | number)[])[]): string =>
  stringify(rows as (string | number)[][], { escape_formulas: true, record_delimiter: 'windows' });

const fields = ['kind', 'bytes', 'changed', 'mode', 'owner', 'group'] as const;

function valuesOf(side: Different['then']): (string | number)[] {
  if (!side) return fields.map(() => '');
  const changed = new Date(Number(BigInt(side.mtimeNs) / 1_000_000n));
  return [
    side.kind,
    side.size,
    Number.isNaN(changed.getTime()) ? '' : changed.toISOString(),
    side.mode.toString(8).padStart(4, '0'),
    side.uid,
    side.gid,
  ];
}

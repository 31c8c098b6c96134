import { ChangeReader, joinPath, usualHoldFrom, type Damaged, type SeenChange, type UnusualSign } from '@lithodex/core';
import { itemFlags, type PointTotals } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJsonOrNull } from '../../base/db/json';
import { damagedItems, folderPaths, rowsBetween } from '../../records/catalog/damaged-items';
import { endings } from '../../records/catalog/ordinals';
import { livingPoints, type PointRow } from '../../records/catalog/points';
import { itemsAt, nameOf, type ItemRow } from '../../records/catalog/tree';
import { openingItems } from '../../records/recover/inside-path';

/** An item that lost its content, with the newest point that holds what it was. */
export interface DamagedItem extends Pick<Damaged, 'how' | 'twin' | 'since' | 'size'> {
  /** Byte string. */
  readonly path: string;
  readonly point: PointRow;
  readonly row: ItemRow;
}

export interface Damage {
  readonly items: readonly DamagedItem[];
  /** The newest point before it that is not suspect. */
  readonly good: PointRow;
  /** Told by what became of each item; else it is all that changed or went. */
  readonly precise: boolean;
}

const mostDamaged = 50_000;
/** Points over which damage that goes slowly is looked for. */
const slowPoints = 10;

/** What a suspect point, and those before it, found damaged, each item with its last clean version; undefined where there is no good point before it. */
export async function findDamage(db: Knex, suspect: PointRow): Promise<Damage | undefined> {
  const points = (await livingPoints(db, suspect.series_no)).filter((p) => p.ordinal <= suspect.ordinal);
  const good = points.findLast((p) => p.suspect === 0 && p.ordinal < suspect.ordinal);
  if (!good) return undefined;
  const held = points.filter((p) => p.ordinal > good.ordinal);
  const signs = held.flatMap(tellingSigns);
  const has = (...codes: UnusualSign['code'][]) => signs.some((s) => codes.includes(s.code));
  if (!countsOf(suspect) || !has('encrypted', 'encryptedSlowly', 'deleted'))
    return { good, precise: false, items: await allThatChanged(db, points, good, suspect) };
  const before = has('encryptedSlowly')
    ? points
        .slice(0, -held.length)
        .slice(-slowPoints)
        .filter((p) => (countsOf(p)?.turnedRandom ?? 0) + (countsOf(p)?.twins ?? 0) > 0)
    : [];
  const found = new Map<string, DamagedItem>();
  for (const point of [...before, ...held]) {
    const previous = points[points.indexOf(point) - 1];
    if (!previous) continue;
    const gone = tellingSigns(point).some((s) => s.code === 'deleted');
    for (const item of await damagedBy(db, points, previous, point))
      if ((item.how !== 'gone' || gone) && !found.has(item.path)) found.set(item.path, item);
  }
  const items = await stillDamaged(db, suspect, [...found.values()]);
  return { good, precise: true, items: items.slice(0, mostDamaged) };
}

/** Without what somebody has put in order since: it stands where it stood and does not look random. */
async function stillDamaged(db: Knex, suspect: PointRow, items: readonly DamagedItem[]): Promise<DamagedItem[]> {
  const paths = items.map((i) => i.path);
  const now = await itemsAt(db, suspect.series_no, paths, suspect.ordinal);
  return items.filter(({ path }) => {
    const row = now.get(path);
    return !row || (row.flags & itemFlags.random) !== 0;
  });
}

/** What a point was held for: the signs that suffice, and the strongest where a person asks for less. */
const tellingSigns = (point: PointRow): UnusualSign[] =>
  (fromJsonOrNull<UnusualSign[]>(point.signs) ?? []).filter((s, i) => i === 0 || s.score >= usualHoldFrom);
const countsOf = (point: PointRow): PointTotals['changes'] | null => fromJsonOrNull<PointTotals['changes']>(point.counts);

const holding = (points: readonly PointRow[], row: ItemRow): PointRow | undefined =>
  points.findLast((p) => p.suspect === 0 && p.ordinal >= row.from_ord && p.ordinal < row.to_ord);

async function allThatChanged(db: Knex, points: readonly PointRow[], good: PointRow, suspect: PointRow): Promise<DamagedItem[]> {
  const rows = (await damagedItems(db, suspect.series_no, good.ordinal, suspect.ordinal, openingItems(suspect)).limit(
    mostDamaged,
  )) as ItemRow[];
  const pathOf = await folderPaths(db, suspect.series_no, rows);
  return rows.map((row) => ({
    how: row.ended === endings.gone ? 'gone' : 'inPlace',
    size: row.size,
    since: null,
    path: joinPath(pathOf(row), nameOf(row)),
    point: holding(points, row) ?? good,
    row,
  }));
}

/** What one point damaged of the one before it. */
async function damagedBy(db: Knex, points: readonly PointRow[], previous: PointRow, point: PointRow): Promise<DamagedItem[]> {
  const rows = await rowsBetween(db, point.series_no, previous.ordinal, point.ordinal);
  const pathOf = await folderPaths(db, point.series_no, rows);
  const inside = openingItems(point).map((item) => `${item}/`);
  const were = new Map<string, ItemRow>();
  const are = new Map<string, ItemRow>();
  for (const row of rows) {
    const path = joinPath(pathOf(row), nameOf(row));
    if (inside.some((start) => path.startsWith(start))) continue;
    if (row.from_ord <= previous.ordinal) were.set(path, row);
    else if (row.to_ord > point.ordinal) are.set(path, row);
  }
  const reader = new ChangeReader();
  for (const path of new Set([...were.keys(), ...are.keys()])) {
    const seen = seenOf(path, were.get(path), are.get(path));
    if (seen) reader.add(seen);
  }
  const { damaged } = reader.read(previous.files, point.moment);
  return damaged.flatMap(({ folder, name, ...rest }) => {
    const path = joinPath(folder, name);
    const row = were.get(path);
    const clean = row && holding(points, row);
    return clean ? [{ ...rest, path, row, point: clean }] : [];
  });
}

const lookOf = (row: ItemRow) => ({
  size: row.size,
  random: (row.flags & itemFlags.random) !== 0,
  // zeros stand for none
  content: row.content.some((byte) => byte !== 0) ? row.content.toString('hex') : '',
  mtime: Math.floor(Number(row.mtime_ns) / 1e6),
});

function seenOf(path: string, was: ItemRow | undefined, is: ItemRow | undefined): SeenChange | undefined {
  const cut = path.lastIndexOf('/');
  const place = { folder: cut < 0 ? '' : path.slice(0, cut), name: path.slice(cut + 1) };
  if (was && is) return { ...place, change: 'changed', before: lookOf(was), now: lookOf(is) };
  if (is) return { ...place, change: 'added', now: lookOf(is) };
  return was && was.ended !== endings.unseen ? { ...place, change: 'removed', before: lookOf(was) } : undefined;
}

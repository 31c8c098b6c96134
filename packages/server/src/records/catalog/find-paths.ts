import { baseName, parentPath, safeParts, unescapePath } from '@lithodex/core';
import type { Found, PathsFound } from '@lithodex/contract';
import type { Knex } from 'knex';
import { pathHash } from './ordinals';
import { foundOf } from './search';

/** Places that are looked at in one question, and at all. */
const placesAtOnce = 2000;
const mostPlaces = 400_000;
/** Of one line so many are told. */
const mostOfLine = 20;

interface Series {
  readonly no: number;
  readonly workloadId: number;
  /** Folder of the source, a byte string that ends with /; '' where it has none. */
  readonly root: string;
}

interface Place {
  readonly line: number;
  readonly series: Series;
  readonly path: string;
}

/** Where lines may lead: to the path itself in every workload, and a whole path to what is below the folder of its source. */
function placesOf(lines: readonly string[], series: readonly Series[]): Place[] {
  const places: Place[] = [];
  for (const [line, text] of lines.entries()) {
    const bytes = unescapePath(text.replace(/^["']|["']$/g, '').replace(/^\.\//, ''));
    for (const one of series) {
      const below = one.root !== '' && bytes.startsWith(one.root) ? bytes.slice(one.root.length) : undefined;
      const path = below ?? (bytes.startsWith('/') ? undefined : bytes);
      if (path && safeParts(path)) places.push({ line, series: one, path });
    }
  }
  return places;
}

/** Finds items by their paths in some workloads, or in all (`only` null). Null where there are too many places to look at. */
export async function findPaths(db: Knex, lines: readonly string[], only: readonly number[] | null): Promise<PathsFound['rows'] | null> {
  const rows = await db('series as s')
    .join('workload as w', 'w.id', 's.workload_id')
    .join('source as o', 'o.id', 'w.source_id')
    .where('s.method', 'files')
    .modify((q) => {
      if (only) void q.whereIn('s.workload_id', [...only]);
    })
    .select<{ no: number; workload_id: number; root: Buffer }[]>('s.no', 's.workload_id', 'o.folder as root');
  const places = placesOf(
    lines,
    rows.map((r) => ({ no: r.no, workloadId: r.workload_id, root: r.root.toString('latin1').replace(/\/*$/, r.root.length ? '/' : '') })),
  );
  if (places.length > mostPlaces) return null;
  const found = lines.map((): Found[] => []);
  for (let from = 0; from < places.length; from += placesAtOnce) {
    const part = places.slice(from, from + placesAtOnce);
    const names = part.map(({ series, path }) => ({ series: series.no, parent: pathHash(parentPath(path)), name: baseName(path) }));
    const linesOf = new Map<string, number[]>();
    for (const { line, series, path } of part) {
      const key = `${series.workloadId} ${path}`;
      linesOf.set(key, [...(linesOf.get(key) ?? []), line]);
    }
    for (const item of await foundOf(db, names))
      for (const line of linesOf.get(`${item.workload.id} ${unescapePath(item.path)}`) ?? []) addNewest(found[line]!, item);
  }
  return lines.map((line, i) => ({ line, found: found[i]!.slice(0, mostOfLine), more: found[i]!.length > mostOfLine }));
}

/** A workload may stand on several targets: what was seen last counts. */
function addNewest(found: Found[], item: Found): void {
  const at = found.findIndex((f) => f.workload.id === item.workload.id && f.path === item.path);
  if (at < 0) found.push(item);
  else if (found[at]!.lastSeen < item.lastSeen) found[at] = item;
}

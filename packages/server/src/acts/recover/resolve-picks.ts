import { baseName, bytesOfText, distinctNames, safeParts } from '@lithodex/core';
import type { MachinePoint, OpenedItem, PointRef, RestoreBody } from '@lithodex/contract';
import type { KindName } from '@lithodex/kinds';
import type { PointRow } from '../../records/catalog/points';
import { itemsAt, kindOf, type ItemRow } from '../../records/catalog/tree';
import { fromJson } from '../../base/db/json';
import type { Deps } from '../deps';
import { findDamage } from './find-damage';
import { ApiError } from '../../base/errors';
import type { Actor } from '../../base/http/access';
import { pointRefs } from '../../records/targets/refs';
import { leadsInside } from '../../records/recover/inside-path';
import { pathOf } from '../../records/recover/path-of';
import { pointFor, readablePoint } from '../../records/recover/point-access';

export interface ResolvedPick {
  readonly point: PointRow;
  readonly workloadKind: KindName;
  readonly ref: PointRef;
  /** Byte string below the root of the point. */
  readonly path: string;
  /** Where it goes below `base`. */
  readonly to: string;
  /** Absolute destination folder, byte string. */
  readonly base: string;
  readonly kind: string;
  readonly size: number;
  readonly items: number;
  readonly row: ItemRow | undefined;
  /** What it is where it lies inside another item, which nobody has catalogued. */
  readonly inside: OpenedItem | undefined;
}

/** Bytes a name may have where files go. */
const longestName = 255;
/** Files inside items that are compared with what is there. */
const mostNamed = 4000;

/** Picks that lie inside items of their points, as a mover finds them there now. */
async function insidePicks(
  deps: Deps,
  points: ReadonlyMap<string, PointRow>,
  paths: ReadonlyMap<string, readonly string[]>,
  readFrom: string | null,
): Promise<Map<string, Map<string, OpenedItem>>> {
  const found = new Map<string, Map<string, OpenedItem>>();
  for (const [id, own] of paths) {
    const inside = own.filter((path) => leadsInside(points.get(id)!, path) === 'into');
    if (!inside.length) continue;
    const [ref] = await pointRefs(deps.db, deps.secrets, [id], readFrom);
    if (!ref) throw new ApiError('POINT_GONE');
    const answers = await deps.movers.ask({ ask: 'openedItems', point: ref, paths: inside, most: mostNamed });
    found.set(id, new Map(answers.flatMap((item, i) => (item ? [[inside[i]!, item] as const] : []))));
  }
  return found;
}

async function damagedPicks(deps: Deps, pointId: string, actor: Actor): Promise<{ point: PointRow; path: string; row: ItemRow }[]> {
  const damage = await findDamage(deps.db, await pointFor(deps.db, pointId, actor));
  if (!damage) throw new ApiError('NOT_NOW', undefined, 'There is no good point before this one.');
  return damage.items.map(({ point, path, row }) => ({ point, path, row }));
}

/** Picks with their points, sizes and places to go. Throws what the points throw, and NOT_FOUND for a path a point does not hold. */
export async function resolvePicks(
  deps: Deps,
  body: Pick<RestoreBody, 'picks' | 'damagedIn' | 'destination' | 'readFrom'>,
  actor: Actor,
): Promise<ResolvedPick[]> {
  const { db } = deps;
  const points = new Map<string, PointRow>();
  const raw: { point: PointRow; path: string; row: ItemRow | undefined; inside?: OpenedItem | undefined }[] = [];
  const paths = new Map<string, string[]>();
  for (const { pointId, path } of body.picks) {
    if (!points.has(pointId)) points.set(pointId, await readablePoint(db, pointId, actor));
    const own = paths.get(pointId) ?? [];
    if (path !== '') own.push(pathOf(path));
    paths.set(pointId, own);
  }
  const items = new Map<string, Map<string, ItemRow>>();
  for (const [id, wanted] of paths) {
    const { series_no, ordinal } = points.get(id)!;
    items.set(id, await itemsAt(db, series_no, wanted, ordinal));
  }
  const insides = await insidePicks(deps, points, paths, body.readFrom);
  for (const pick of body.picks) {
    const point = points.get(pick.pointId)!;
    const path = pathOf(pick.path);
    // what lies inside a disk is what the mover finds there, whether its name is in the catalog or not
    const row = leadsInside(point, path) === 'into' ? undefined : items.get(pick.pointId)!.get(path);
    const inside = row ? undefined : (insides.get(pick.pointId)?.get(path) ?? diskOfSnapshot(point, path));
    if (path !== '' && !row && !inside) throw new ApiError('NOT_FOUND', { pick }, `The point does not hold ${pick.path}.`);
    raw.push({ point, path, row, inside });
  }
  if (body.damagedIn) raw.push(...(await damagedPicks(deps, body.damagedIn, actor)));
  const ids = [...new Set(raw.map((r) => r.point.id))];
  const refs = new Map((await pointRefs(db, deps.secrets, ids, body.readFrom)).map((r) => [r.taskId, r]));
  const workloads = [...new Set(raw.map((r) => r.point.workload_id))];
  const ofKinds = await db('workload').whereIn('id', workloads).select<{ id: number; kind: KindName }[]>('id', 'kind');
  const kindsOf = new Map(ofKinds.map((w) => [w.id, w.kind]));
  const { destination } = body;
  const gathered = destination.to === 'download' || destination.to === 'share' || ('keepPath' in destination && !destination.keepPath);
  const stamped = raw.map(({ point, path }) => {
    const at = new Date(point.moment).toISOString();
    return { name: path === '' ? `point-${at.slice(0, 10)}` : baseName(path), stamp: at.slice(0, 16).replace('T', ' ').replace(':', '') };
  });
  const names = distinctNames(stamped);
  const owns = ownPlaces(destination);
  return raw.map(({ point, path, row, inside }, i) => {
    const ref = refs.get(point.id);
    if (!ref) throw new ApiError('POINT_GONE');
    const intoFolder = path === '' && destination.to === 'folder';
    return {
      point,
      workloadKind: kindsOf.get(point.workload_id)!,
      ref,
      path,
      to: owns.get(`${point.id} ${path}`) ?? (gathered && !intoFolder ? names[i]! : path),
      base: destination.to === 'folder' || destination.to === 'disks' ? bytesOfText(destination.folder.replace(/(.)\/+$/, '$1')) : ref.root,
      kind: row ? kindOf(row) : (inside?.kind ?? 'folder'),
      size: row ? row.size : (inside?.size ?? point.bytes),
      items: row ? row.items + 1 : (inside?.items ?? point.items),
      row,
      inside,
    };
  });
}

/** A disk that a storage keeps, which is in no catalog. */
function diskOfSnapshot({ onStorage, machine }: PointRow, path: string): OpenedItem | undefined {
  if (!onStorage) return undefined;
  const disk = fromJson<MachinePoint>(machine).disks.find((d) => d.file !== '' && d.file === path);
  return disk && { kind: 'file', size: disk.size, items: 1, whole: true, files: [] };
}

/** Places below the folder (byte strings) that were said for single items, by point and path. Throws INVALID for one that leads out of it. */
function ownPlaces(destination: RestoreBody['destination']): Map<string, string> {
  if (destination.to !== 'folder') return new Map();
  return new Map(
    destination.exceptions.map(({ pointId, path, as }, i) => {
      const place = bytesOfText(as);
      const parts = safeParts(place);
      const long = parts?.find((part) => part.length > longestName);
      if (!parts?.length || long !== undefined)
        throw new ApiError(
          'INVALID',
          [{ at: `body.destination.exceptions.${i}.as` }],
          long === undefined ? `${as} is no place below the folder.` : `A name of ${as} is longer than ${longestName} bytes.`,
        );
      return [`${pointId} ${pathOf(path)}`, place];
    }),
  );
}

import { escapePath, joinPath, unescapePath } from '@lithodex/core';
import type { Tree } from '@lithodex/contract';
import type { PointRow } from '../../records/catalog/points';
import { pointRefs } from '../../records/targets/refs';
import { ApiError } from '../../base/errors';
import type { Deps } from '../deps';

/** One folder inside an item of a point, read from it by a mover now. Throws what the mover can't do, and POINT_GONE. */
export async function treeInside(
  deps: Deps,
  point: PointRow,
  path: string,
  { cursor, limit }: { readonly cursor?: string | undefined; readonly limit: number },
): Promise<Tree> {
  const [ref] = await pointRefs(deps.db, deps.secrets, [point.id]);
  if (!ref) throw new ApiError('POINT_GONE');
  const after = cursor ? unescapePath(cursor) : '';
  const { rows, more } = await deps.movers.ask({ ask: 'openedFolder', point: ref, path, after, limit });
  return {
    path: escapePath(path),
    rows: rows.map(({ name, ...row }) => ({
      ...row,
      name: escapePath(name),
      path: escapePath(joinPath(path, name)),
      items: 0,
      opens: false,
      random: false,
      since: 'same',
      strip: null,
      versions: 1,
      lastGood: null,
    })),
    next: more ? escapePath(rows.at(-1)!.name) : null,
    notLookedAt: false,
    inside: true,
  };
}

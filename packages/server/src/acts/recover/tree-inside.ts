import { escapePath, joinPath, mailStoreFolder, mailStoreOn, unescapePath } from '@lithodex/core';
import type { Tree, TreeRow } from '@lithodex/contract';
import type { PointRow } from '../../records/catalog/points';
import { pointRefs } from '../../records/targets/refs';
import { ApiError } from '../../base/errors';
import type { Deps } from '../deps';

/** What nobody knows of an item that is read from a disk. */
const unknown = { items: 0, opens: false, random: false, since: 'same', strip: null, versions: 1, lastGood: null } as const;

/** Where the names in a folder are those of a mail store, the folder in which it stands opened. */
export function openedStore(path: string, rows: readonly { readonly name: string }[]): TreeRow[] {
  const names = new Set(rows.map((r) => r.name));
  if (mailStoreOn(path) || !((names.has('cur') && names.has('new')) || names.has('mailboxes'))) return [];
  const at = { name: mailStoreFolder, path: escapePath(joinPath(path, mailStoreFolder)) };
  const plain = { kind: 'folder', size: 0, mtimeNs: '0', mode: 0o700, uid: 0, gid: 0, unread: false, about: 'mail store' };
  return [{ ...plain, ...unknown, ...at }];
}

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
    rows: rows.map(({ name, ...row }) => ({ ...row, ...unknown, name: escapePath(name), path: escapePath(joinPath(path, name)) })),
    next: more ? escapePath(rows.at(-1)!.name) : null,
    notLookedAt: false,
    inside: true,
  };
}

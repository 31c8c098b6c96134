import { escapePath } from '@lithodex/core';
import type { MachinePoint, Tree, TreeRow } from '@lithodex/contract';
import { fromJson } from '../../base/db/json';
import { ApiError } from '../../base/errors';
import type { PointRow } from '../../records/catalog/points';

const disksFolder = 'disks';

/** The folders above the disks of a machine in a snapshot: what is said of the machine tells what they hold. Throws NOT_FOUND. */
export function treeOfSnapshot({ machine, moment }: PointRow, path: string): Tree {
  const disks = fromJson<MachinePoint>(machine).disks.filter((d) => d.file !== '');
  const rows = {
    '': [
      row(
        disksFolder,
        'folder',
        disks.reduce((sum, d) => sum + d.size, 0),
        moment,
        disks.length,
      ),
    ],
    [disksFolder]: disks.map((d) => row(d.file, 'file', d.size, moment, 0)).sort((a, b) => (a.name < b.name ? -1 : 1)),
  }[path];
  if (!rows) throw new ApiError('NOT_FOUND', undefined, 'The snapshot holds no such folder.');
  return { path: escapePath(path), rows, next: null, notLookedAt: false, inside: true };
}

function row(path: string, kind: 'file' | 'folder', size: number, moment: number, items: number): TreeRow {
  return {
    name: escapePath(path.slice(path.lastIndexOf('/') + 1)),
    path: escapePath(path),
    kind,
    size,
    items,
    mtimeNs: String(BigInt(moment) * 1_000_000n),
    mode: kind === 'folder' ? 0o700 : 0o600,
    uid: 0,
    gid: 0,
    unread: false,
    about: '',
    opens: kind === 'file',
    random: false,
    since: 'same',
    strip: null,
    versions: 1,
    lastGood: null,
  };
}

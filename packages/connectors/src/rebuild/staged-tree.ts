import fs from 'node:fs';
import path from 'node:path';
import type { ServerVolume } from '@lithodex/kinds';

/** Folders that a system mounts over at its start; they are left out of points, and have to be there. */
const mountedOver: readonly (readonly [string, number])[] = [
  ['dev', 0o755],
  ['proc', 0o555],
  ['run', 0o755],
  ['sys', 0o555],
  ['tmp', 0o1777],
];

/** The files of each volume in a folder of its own. */
export type StagedVolumes = ReadonlyMap<string, string>;

/**
 * Takes a tree that holds all files of a system apart into those of its volumes, deepest mount first: `tree` stays with those of its top volume, the others go to folders in `beside`, and the places they
 * are mounted at stay, empty. Nothing is copied. Returns the folder of each volume by its device.
 */
export function takeApart(
  tree: string,
  beside: string,
  volumes: readonly Pick<ServerVolume, 'device' | 'mount' | 'taken'>[],
): StagedVolumes {
  const staged = new Map<string, string>();
  const mounted = volumes
    .filter((v) => v.taken && v.mount.startsWith('/'))
    .sort((a, b) => b.mount.split('/').length - a.mount.split('/').length || b.mount.length - a.mount.length);
  for (const { device, mount } of mounted) {
    const own = path.join(beside, encodeURIComponent(device));
    if (mount === '/') {
      makePlaces(tree);
      staged.set(device, tree);
      continue;
    }
    const at = beneath(tree, mount);
    if (fs.lstatSync(at, { throwIfNoEntry: false })?.isDirectory()) {
      const { mode, uid, gid, atime, mtime } = fs.statSync(at);
      fs.renameSync(at, own);
      fs.mkdirSync(at, { mode: 0o755 });
      fs.chmodSync(at, mode & 0o7777);
      fs.chownSync(at, uid, gid);
      fs.utimesSync(at, atime, mtime);
    } else {
      fs.mkdirSync(own, { mode: 0o755 });
      fs.mkdirSync(at, { recursive: true, mode: 0o755 });
    }
    staged.set(device, own);
  }
  return staged;
}

/** Makes the folders at the top of a system that it mounts over at its start. */
export function makePlaces(top: string): void {
  for (const [name, mode] of mountedOver) makePlace(path.join(top, name), mode);
}

function makePlace(folder: string, mode: number): void {
  if (fs.lstatSync(folder, { throwIfNoEntry: false })) return;
  fs.mkdirSync(folder);
  fs.chmodSync(folder, mode);
}

/** A path below a tree whose folders are none of them links. Throws where one is. */
function beneath(tree: string, mount: string): string {
  let at = tree;
  for (const part of mount.split('/').filter(Boolean)) {
    if (part === '..') throw new Error(`${mount} leads out of the tree`);
    at = path.join(at, part);
    if (fs.lstatSync(at, { throwIfNoEntry: false })?.isSymbolicLink()) throw new Error(`${mount} leads over a link`);
  }
  return at;
}

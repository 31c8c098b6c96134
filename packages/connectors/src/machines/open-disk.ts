import { EngineError, type TreeEntry } from '@lithodex/engine';
import { VolumeError, volumesOf, type Blocks } from '@lithodex/volumes';
import type { OpenPoint } from '../connector';
import { imageBlocks } from '../inside/image-blocks';
import { InsideTree } from '../inside/inside-tree';
import { machinePoint } from './machine-content';

/** The disks of the machine of a point as they are stored. */
export async function disksOf({ store, root, top }: OpenPoint): Promise<Map<string, Blocks>> {
  const disks = new Map<string, Blocks>();
  for (const { file } of machinePoint(root)?.disks ?? []) {
    if (file === '') continue;
    const blocks = imageBlocks(await store.trees.find(top, file), store.trees, store.reader);
    if (blocks) disks.set(file, blocks);
  }
  return disks;
}

/** The disk that a path leads into: its item, and what is left of the path; undefined where it leads into none. */
export function diskOnPath(root: OpenPoint['root'], path: string): { readonly file: string; readonly rest: string } | undefined {
  const disk = machinePoint(root)?.disks.find(({ file }) => file !== '' && (path === file || path.startsWith(`${file}/`)));
  return disk && { file: disk.file, rest: path.slice(disk.file.length + 1) };
}

/** A disk of a machine, or a volume on it, as it is stored. Throws PATH_MISSING for what is neither, and what a volume can't be read for. */
export async function deviceAt(point: OpenPoint, path: string): Promise<Blocks> {
  const found = diskOnPath(point.root, path);
  const disks = await disksOf(point);
  const disk = found && disks.get(found.file);
  if (!disk) throw new EngineError('PATH_MISSING', path);
  if (found.rest === '') return disk;
  const volume = (await volumesOf(disks)).get(found.file)?.find((v) => v.name === found.rest);
  if (!volume) throw new EngineError('PATH_MISSING', path);
  if (!volume.blocks) throw new VolumeError('NOT_READ', volume.why);
  return volume.blocks;
}

/** What is inside a disk of a machine: its volumes, and in them their files. Volumes may lie on several disks of the machine. */
export async function openDisk(point: OpenPoint, file: string): Promise<InsideTree> {
  const disks = await disksOf(point);
  if (!disks.has(file)) throw new EngineError('PATH_MISSING', file);
  return new InsideTree((await volumesOf(disks)).get(file) ?? [], nameOf(file));
}

const nameOf = (file: string): TreeEntry['name'] => file.slice(file.lastIndexOf('/') + 1);

import fs from 'node:fs';
import { inFolder, posix, type ItemKind, type TreeEntry } from '@lithodex/engine';

/** Entry without content, as the file system describes it, with what only the live file system knows. */
export interface LiveEntry extends TreeEntry {
  readonly dev: number;
  /** The extended attributes could not be read: code of the system. */
  readonly attributesFailed?: string;
}

function kindOf(stat: fs.BigIntStats): ItemKind {
  if (stat.isFile()) return 'file';
  if (stat.isDirectory()) return 'folder';
  if (stat.isSymbolicLink()) return 'link';
  if (stat.isFIFO()) return 'fifo';
  if (stat.isCharacterDevice()) return 'char';
  if (stat.isBlockDevice()) return 'block';
  return 'socket';
}

/** Names in an open folder as byte strings, sorted by bytes. Throws the system's error. */
export function namesIn(folder: number): string[] {
  return fs.readdirSync(`/proc/self/fd/${folder}`, 'latin1').sort();
}

/** Plain facts of an entry of an open folder, never following a link; undefined when there is none. Throws the system's error. */
export function factsIn(folder: number, name: string): fs.BigIntStats | undefined {
  return fs.lstatSync(inFolder(folder, name), { bigint: true, throwIfNoEntry: false });
}

/** Full description of an entry of an open folder; undefined when there is none. Throws the system's error. */
export function describeIn(folder: number, name: string): LiveEntry | undefined {
  const stat = factsIn(folder, name);
  if (!stat) return undefined;
  const path = inFolder(folder, name);
  const kind = kindOf(stat);
  return {
    ...entryOf(name, kind, stat, () => posix.readAttributes(path)),
    ...(kind === 'link' && { linkTarget: fs.readlinkSync(path, 'latin1') }),
    ...((kind === 'char' || kind === 'block') && { device: Number(stat.rdev) }),
    ...(kind !== 'folder' && stat.nlink > 1n && { hardId: `${stat.dev}:${stat.ino}` }),
  };
}

/** Full description of an open folder. Throws the system's error. */
export function describeOpen(folder: number, name: string): LiveEntry {
  const stat = fs.fstatSync(folder, { bigint: true });
  return entryOf(name, kindOf(stat), stat, () => posix.readAttributesOpen(folder));
}

function entryOf(name: string, kind: ItemKind, stat: fs.BigIntStats, read: () => [string, Buffer][]): LiveEntry {
  let attributes: [string, Buffer][] = [];
  let attributesFailed: string | undefined;
  try {
    attributes = read();
  } catch (error) {
    attributesFailed = error instanceof posix.PosixError ? error.code : String(error);
  }
  return {
    name,
    kind,
    mode: Number(stat.mode) & 0o7777,
    uid: Number(stat.uid),
    gid: Number(stat.gid),
    mtimeNs: stat.mtimeNs,
    ctimeNs: stat.ctimeNs,
    inode: Number(stat.ino),
    size: kind === 'file' ? Number(stat.size) : 0,
    dev: Number(stat.dev),
    ...(attributes.length && { attributes }),
    ...(attributesFailed !== undefined && { attributesFailed }),
  };
}

/** The entry as the store keeps it. */
export function storedForm(live: LiveEntry): TreeEntry {
  const { dev: _dev, attributesFailed: _failed, ...entry } = live;
  return entry;
}

import fs from 'node:fs';
import { posix, withShortPath, type ItemKind, type TreeEntry } from '@lithodex/engine';

const { O_RDONLY, O_DIRECTORY, O_NOFOLLOW } = fs.constants;

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

/** Names in a folder as byte strings, sorted by bytes. Throws the system's error. */
export function listNames(folder: string): string[] {
  return withShortPath(`${folder}/.`, (path) => fs.readdirSync(path, 'latin1')).sort();
}

/** An open folder with the names in it as byte strings, sorted by bytes. */
export interface Listing {
  /** To be closed by `fs.closeSync`. */
  readonly fd: number;
  readonly names: readonly string[];
}

/** Opens a folder, never following a link, and lists it. Throws the system's error. */
export function openListing(folder: string): Listing {
  const fd = withShortPath(folder, (path) => fs.openSync(path, O_RDONLY | O_DIRECTORY | O_NOFOLLOW));
  try {
    return { fd, names: fs.readdirSync(`/proc/self/fd/${fd}`, 'latin1').sort() };
  } catch (error) {
    fs.closeSync(fd);
    throw error;
  }
}

/** Plain facts of an entry, never following a link. Throws the system's error. */
export function statEntry(path: string): fs.BigIntStats {
  return withShortPath(path, (p) => fs.lstatSync(p, { bigint: true }));
}

/** Full description of an entry. */
export function describeEntry(path: string, name: string, stat: fs.BigIntStats): LiveEntry {
  const kind = kindOf(stat);
  let attributes: [string, Buffer][] = [];
  let attributesFailed: string | undefined;
  try {
    attributes = withShortPath(path, (p) => posix.readAttributes(p));
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
    ...(kind === 'link' && { linkTarget: withShortPath(path, (p) => fs.readlinkSync(p, 'latin1')) }),
    ...((kind === 'char' || kind === 'block') && { device: Number(stat.rdev) }),
    ...(kind !== 'folder' && stat.nlink > 1n && { hardId: `${stat.dev}:${stat.ino}` }),
  };
}

/** The entry as the store keeps it. */
export function storedForm(live: LiveEntry): TreeEntry {
  const { dev: _dev, attributesFailed: _failed, ...entry } = live;
  return entry;
}

import fs from 'node:fs';
import koffi from 'koffi';
import { EngineError, systemCode } from '../errors';
import { closeFile, FileFacts, openIn, statIn, statOpen } from './open-files';
import { failed, lastCode } from './posix-error';

/**
 * The one way to folders and files of others: what lies beneath an open folder is opened without following any link on the way and without ever leaving that folder, whatever its
 * owner puts there meanwhile. Paths are byte strings.
 */
const libc = koffi.load('libc.so.6');
const openat2 = libc.func('int syscall(int64_t, int, const uint8_t *, const void *, size_t)') as (
  number: number,
  folder: number,
  path: Uint8Array,
  how: Uint8Array,
  size: number,
) => number;
const openat2Number = 437;
/** RESOLVE_NO_MAGICLINKS, RESOLVE_NO_SYMLINKS and RESOLVE_BENEATH of openat2(2). */
const beneathOnly = 0x02 | 0x04 | 0x08;
const closeOnExec = 0o2000000;
const how = Buffer.alloc(24);
how.writeUInt8(beneathOnly, 16);
/** Systems that do not know the call open part by part. */
const hasOpenat2 = openat2(openat2Number, -1, Buffer.from('.\0'), how, how.length) >= 0 || lastCode() !== 'ENOSYS';

const { O_RDONLY, O_DIRECTORY, O_NOFOLLOW } = fs.constants;
const folderFlags = O_RDONLY | O_DIRECTORY | O_NOFOLLOW;
const longestPath = 3800;
const mostLinks = 40;

/** Path of an entry of an open folder: names in it can not lead elsewhere, whatever happens to the folders above. */
export function inFolder(folder: number, name: string): Buffer {
  return Buffer.from(`/proc/self/fd/${folder}/${name}`, 'latin1');
}

/** Opens what lies at `path` below an open folder ('' is the folder itself). To be closed by {@link closeFile}. Throws a PosixError. */
export function openBeneath(folder: number, path: string, flags: number): number {
  if (path === '') return openIn(folder, '.', flags);
  const parts = path.split('/');
  if (parts.some((part) => part === '' || part === '.' || part === '..' || part.includes('\0')))
    throw new EngineError('LEADS_AWAY', 'not a plain path');
  let at = folder;
  for (let from = 0; from < parts.length;) {
    const to = hasOpenat2 ? upTo(parts, from) : from + 1;
    const last = to === parts.length;
    const above = at;
    try {
      at = openParts(above, parts.slice(from, to).join('/'), last ? flags | O_NOFOLLOW : folderFlags);
    } finally {
      if (above !== folder) closeFile(above);
    }
    from = to;
  }
  return at;
}

/** The same for a folder. */
export function openFolderBeneath(folder: number, path: string): number {
  return openBeneath(folder, path, folderFlags);
}

/** End of the parts from `from` on that make one path the system takes. */
function upTo(parts: readonly string[], from: number): number {
  let length = 0;
  let to = from;
  while (to < parts.length && (to === from || length + parts[to]!.length < longestPath)) length += parts[to++]!.length + 1;
  return to;
}

function openParts(folder: number, path: string, flags: number): number {
  if (!hasOpenat2) return openIn(folder, path, flags);
  how.writeUInt32LE(flags | closeOnExec, 0);
  for (;;) {
    const fd = openat2(openat2Number, folder, Buffer.from(`${path}\0`, 'latin1'), how, how.length);
    if (fd >= 0) return fd;
    const code = lastCode();
    if (code !== 'EINTR' && code !== 'EAGAIN') throw failed('openat2');
  }
}

/**
 * Opens the folder that a source or a destination begins at. The folder itself is never a link. Links above it are followed where nobody but the system's administrator, or the account of this
 * process, can have put them there or can put them elsewhere. To be closed by {@link closeFile}. Throws a PosixError, and LEADS_AWAY where a link is not to be trusted.
 * @param path absolute
 * @param make folders that are missing are made, once this, called with the open folder that gets the first of them, has not thrown
 */
export function openTop(path: string, make?: (folder: number) => void): number {
  let parts = path.split('/').filter((part) => part !== '' && part !== '.');
  if (!path.startsWith('/') || path.includes('\0') || parts.includes('..'))
    throw new EngineError('LEADS_AWAY', 'not a plain absolute path');
  const root = openIn(-1, '/', folderFlags);
  try {
    for (let links = 0; links < mostLinks; links++) {
      const met = descend(root, parts, make);
      if (typeof met === 'number') return met;
      parts = met;
    }
    throw new EngineError('LEADS_AWAY', 'too many links');
  } finally {
    closeFile(root);
  }
}

/** The open folder, or the parts of the path that a trusted link on the way makes of it. */
function descend(root: number, parts: readonly string[], make: ((folder: number) => void) | undefined): number | string[] {
  let at = openIn(root, '.', folderFlags);
  try {
    for (const [i, part] of parts.entries()) {
      let next: number;
      try {
        next = openIn(at, part, folderFlags);
      } catch (error) {
        const code = systemCode(error);
        if (code === 'ENOENT' && make) {
          make(at);
          makeFolder(at, part);
          next = openIn(at, part, folderFlags);
        } else if (code === 'ELOOP' || code === 'ENOTDIR') {
          const met = [...linkTarget(at, parts, i), ...parts.slice(i + 1)];
          closeFile(at);
          return met;
        } else throw error;
      }
      closeFile(at);
      at = next;
    }
  } catch (error) {
    closeFile(at);
    throw error;
  }
  return at;
}

function makeFolder(folder: number, name: string): void {
  try {
    fs.mkdirSync(inFolder(folder, name), 0o755);
  } catch (error) {
    if (systemCode(error) !== 'EEXIST') throw error;
  }
}

const isOurs = (uid: number) => uid === 0 || uid === process.geteuid!();

/** Parts of the absolute path a link leads to. Throws LEADS_AWAY where somebody else may have put it there, and ENOTDIR where it is none. */
function linkTarget(folder: number, parts: readonly string[], at: number): string[] {
  const name = parts[at]!;
  const link = new FileFacts();
  statIn(folder, name, link);
  if ((link.mode & 0o170000) !== 0o120000) throw Object.assign(new Error('not a folder'), { code: 'ENOTDIR' });
  const around = new FileFacts();
  statOpen(folder, around);
  const fixed = (around.mode & 0o022) === 0 || (around.mode & 0o1000) !== 0;
  if (at === parts.length - 1 || !fixed || !isOurs(around.uid) || !isOurs(link.uid))
    throw new EngineError('LEADS_AWAY', 'a link is in the way');
  const target = fs.readlinkSync(inFolder(folder, name), 'latin1');
  const found: string[] = target.startsWith('/') ? [] : parts.slice(0, at);
  for (const part of target.split('/')) {
    if (part === '..') found.pop();
    else if (part !== '' && part !== '.') found.push(part);
  }
  return found;
}

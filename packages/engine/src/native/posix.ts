import koffi from 'koffi';
import type { Instant } from '../format/byte-io';
import { failed, lastCode, PosixError } from './posix-error';

export { PosixError } from './posix-error';

/**
 * The few calls of the C library that Node does not offer: times to the nanosecond without following links, extended attributes, special files, holes.
 * Paths are raw bytes ending in NUL. Every function throws a PosixError with the system's code.
 */
const libc = koffi.load('libc.so.6');
type Int = number;
const lutimes = libc.func('int utimensat(int, const uint8_t *, const void *, int)') as (
  d: Int,
  p: Uint8Array,
  t: Uint8Array,
  f: Int,
) => Int;
const futimens = libc.func('int futimens(int, const void *)') as (d: Int, t: Uint8Array) => Int;
const fsetxattr = libc.func('int fsetxattr(int, const uint8_t *, const void *, size_t, int)') as (
  d: Int,
  n: Uint8Array,
  v: Uint8Array,
  l: Int,
  f: Int,
) => Int;
const llistxattr = libc.func('int64_t llistxattr(const uint8_t *, void *, size_t)') as (p: Uint8Array, o: Uint8Array | null, n: Int) => Int;
const lgetxattr = libc.func('int64_t lgetxattr(const uint8_t *, const uint8_t *, void *, size_t)') as (
  p: Uint8Array,
  n: Uint8Array,
  o: Uint8Array | null,
  l: Int,
) => Int;
const lsetxattr = libc.func('int lsetxattr(const uint8_t *, const uint8_t *, const void *, size_t, int)') as (
  p: Uint8Array,
  n: Uint8Array,
  v: Uint8Array,
  l: Int,
  f: Int,
) => Int;
const flistxattr = libc.func('int64_t flistxattr(int, void *, size_t)') as (d: Int, o: Uint8Array | null, n: Int) => Int;
const fgetxattr = libc.func('int64_t fgetxattr(int, const uint8_t *, void *, size_t)') as (
  d: Int,
  n: Uint8Array,
  o: Uint8Array | null,
  l: Int,
) => Int;
const mknod = libc.func('int mknod(const uint8_t *, uint32_t, uint64_t)') as (p: Uint8Array, m: Int, d: Int | bigint) => Int;
const seek = libc.func('int64_t lseek(int, int64_t, int)') as (fd: Int, offset: Int, whence: Int) => Int | bigint;

const setfsuid = libc.func('int setfsuid(uint32_t)') as (uid: Int) => Int;
const setfsgid = libc.func('int setfsgid(uint32_t)') as (gid: Int) => Int;

const z = (bytes: Uint8Array) => Buffer.concat([bytes, Buffer.of(0)]);

const times = Buffer.alloc(32);
const omit = 0x3ffffffe;
times.writeUInt32LE(omit, 8);

/** Access time left as it is and the modification time given (also before 1970), as utimensat(2) takes them. Stands until the next call. */
function timesOf({ seconds, nanos }: Instant): Uint8Array {
  times.writeUInt32LE(seconds >>> 0, 16);
  times.writeInt32LE(Math.floor(seconds / 2 ** 32), 20);
  times.writeUInt32LE(nanos, 24);
  return times;
}

/** Sets the modification time of the entry itself, never of what a link leads to. */
export function setModified(path: Uint8Array, at: Instant): void {
  const atFdcwd = -100;
  const noFollow = 0x100;
  if (lutimes(atFdcwd, z(path), timesOf(at), noFollow) !== 0) throw failed('utimensat');
}

/** Sets the modification time of an open file. */
export function setModifiedOpen(fd: number, at: Instant): void {
  if (futimens(fd, timesOf(at)) !== 0) throw failed('futimens');
}

const scratch = Buffer.alloc(65536);

/** Extended attributes (access control lists among them) of an entry itself, sorted by name; empty where the file system has none. */
export function readAttributes(path: Uint8Array): [string, Buffer][] {
  const p = z(path);
  return attributesFrom(
    (to) => llistxattr(p, to, to.length),
    (key, to) => lgetxattr(p, key, to, to.length),
  );
}

/** The same for an open file. */
export function readAttributesOpen(fd: number): [string, Buffer][] {
  return attributesFrom(
    (to) => flistxattr(fd, to, to.length),
    (key, to) => fgetxattr(fd, key, to, to.length),
  );
}

const noRoom = Buffer.alloc(0);

function attributesFrom(list: (to: Buffer) => number, get: (key: Buffer, to: Buffer) => number): [string, Buffer][] {
  // most have none, and the kernel makes room for all that is offered before it looks
  let length = Number(list(noRoom));
  if (length > 0) length = Number(list(scratch));
  if (length < 0) {
    if (lastCode() === 'ENOTSUP') return [];
    throw failed('listxattr');
  }
  if (length === 0) return [];
  const keys = scratch
    .subarray(0, length - 1)
    .toString('latin1')
    .split('\0')
    .sort();
  return keys.flatMap((key): [string, Buffer][] => {
    const size = Number(get(z(Buffer.from(key, 'latin1')), scratch));
    if (size >= 0) return [[key, Buffer.from(scratch.subarray(0, size))]];
    if (lastCode() === 'ENODATA') return [];
    throw failed('getxattr');
  });
}

/** Sets one extended attribute of the entry itself. */
export function writeAttribute(path: Uint8Array, name: string, value: Uint8Array): void {
  if (lsetxattr(z(path), z(Buffer.from(name, 'latin1')), value, value.length, 0) !== 0) throw failed(`lsetxattr ${name}`);
}

/** Sets one extended attribute of an open file. */
export function writeAttributeOpen(fd: number, name: string, value: Uint8Array): void {
  if (fsetxattr(fd, z(Buffer.from(name, 'latin1')), value, value.length, 0) !== 0) throw failed(`fsetxattr ${name}`);
}

/** Makes a fifo, socket or device node; `mode` holds the type bits. Fails when something exists. */
export function makeNode(path: Uint8Array, mode: number, device: number): void {
  if (mknod(z(path), mode, device) !== 0) throw failed('mknod');
}

/** Ranges [offset, length] of a file that hold data, as the file system reports them; one range when it can't tell. */
export function dataRanges(fd: number, size: number): [number, number][] {
  const seekData = 3;
  const seekHole = 4;
  const ranges: [number, number][] = [];
  for (let at = 0; at < size;) {
    const start = Number(seek(fd, at, seekData));
    if (start < 0) {
      if (lastCode() === 'ENXIO') break;
      return [[0, size]];
    }
    const end = Number(seek(fd, start, seekHole));
    if (end < 0) return [[0, size]];
    ranges.push([start, Math.min(end, size) - start]);
    at = end;
  }
  return ranges;
}

export interface Account {
  readonly uid: number;
  readonly gid: number;
  /** Groups it belongs to besides. */
  readonly groups: readonly number[];
}

/** Numbers of setgroups(2) as the kernel counts: the C library's own call would change all threads. */
const setgroupsNumber = process.arch === 'arm64' ? 159 : 116;
const syscall = libc.func('int syscall(int64_t, size_t, const void *)') as (number: number, count: number, list: Uint8Array) => Int;

function setGroups(groups: readonly number[]): void {
  const list = Buffer.alloc(groups.length * 4);
  groups.forEach((gid, i) => list.writeUInt32LE(gid, i * 4));
  if (syscall(setgroupsNumber, groups.length, list) !== 0) throw failed('setgroups');
}

const ownGroups = process.getgroups!();
const nobodyAtAll = 0xffffffff;

/**
 * Runs synchronous file calls of this thread with the rights of another account (fsuid, fsgid and supplementary groups), so that a source is read with no more rights
 * than it was given. Without an account, runs with the rights of the process. Throws a PosixError (EPERM) where the process may not take the rights on.
 */
export function asAccount<T>(account: Account | undefined, run: () => T): T {
  if (!account) return run();
  const own = process.geteuid!();
  if (own !== 0) {
    if (own !== account.uid) throw new PosixError('EPERM', 'setfsuid');
    return run();
  }
  setGroups(account.groups);
  try {
    setfsgid(account.gid);
    setfsuid(account.uid);
    // the calls tell nothing of a failure but by what is in force afterwards
    if (setfsuid(nobodyAtAll) !== account.uid || setfsgid(nobodyAtAll) !== account.gid) throw new PosixError('EPERM', 'setfsuid');
    return run();
  } finally {
    setfsuid(own);
    setfsgid(process.getegid!());
    setGroups(ownGroups);
  }
}

import koffi from 'koffi';
import { failed, lastCode, PosixError } from './posix-error';

/**
 * Files of an open folder by their own names, and open files by number: the calls made for every single file, which cost less than half of what
 * they cost by path. Names are byte strings. Every function throws a PosixError.
 */
const libc = koffi.load('libc.so.6');
const statx = libc.func('int statx(int, const uint8_t *, int, uint32_t, void *)') as (
  folder: number,
  name: Uint8Array,
  flags: number,
  mask: number,
  to: Uint8Array,
) => number;
const openat = libc.func('int openat(int, const uint8_t *, int)') as (folder: number, name: Uint8Array, flags: number) => number;
const pread = libc.func('int64_t pread(int, void *, size_t, int64_t)') as (
  fd: number,
  to: Uint8Array,
  length: number,
  offset: number,
) => number | bigint;
const createat = libc.func('int openat(int, const uint8_t *, int, uint32_t)') as (
  folder: number,
  name: Uint8Array,
  flags: number,
  mode: number,
) => number;
const pwrite = libc.func('int64_t pwrite(int, const void *, size_t, int64_t)') as (
  fd: number,
  from: Uint8Array,
  length: number,
  offset: number,
) => number | bigint;
const fchown = libc.func('int fchown(int, uint32_t, uint32_t)') as (fd: number, uid: number, gid: number) => number;
const fchmod = libc.func('int fchmod(int, uint32_t)') as (fd: number, mode: number) => number;
const linkat = libc.func('int linkat(int, const uint8_t *, int, const uint8_t *, int)') as (
  from: number,
  name: Uint8Array,
  to: number,
  newName: Uint8Array,
  flags: number,
) => number;
const close = libc.func('int close(int)') as (fd: number) => number;

const typeMask = 0o170000;
const fileType = 0o100000;
const folderType = 0o040000;
const answer = new Uint8Array(256);
const words = new Uint32Array(answer.buffer);
const signedWords = new Int32Array(answer.buffer);

/** The number of 64 bits that begins at a word. */
const long = (word: number) => words[word]! + words[word + 1]! * 2 ** 32;

/** Facts of a file as statx(2) gives them, to be filled again and again. Times are exact; numbers are below 2^53. */
export class FileFacts {
  /** Type and permission bits. */
  mode = 0;
  uid = 0;
  gid = 0;
  links = 0;
  device = 0;
  inode = 0;
  /** Bytes. */
  size = 0;
  /** Blocks of 512 bytes. */
  blocks = 0;
  mtimeSeconds = 0;
  mtimeNanos = 0;
  ctimeSeconds = 0;
  ctimeNanos = 0;

  get isFile(): boolean {
    return (this.mode & typeMask) === fileType;
  }

  get isFolder(): boolean {
    return (this.mode & typeMask) === folderType;
  }

  /** Takes over what statx has answered, in the order of its words (struct statx of linux/stat.h). */
  fill(): void {
    this.links = words[4]!;
    this.uid = words[5]!;
    this.gid = words[6]!;
    this.mode = words[7]! & 0xffff;
    this.inode = long(8);
    this.size = long(10);
    this.blocks = long(12);
    this.ctimeSeconds = words[24]! + signedWords[25]! * 2 ** 32;
    this.ctimeNanos = words[26]!;
    this.mtimeSeconds = words[28]! + signedWords[29]! * 2 ** 32;
    this.mtimeNanos = words[30]!;
    const major = words[34]!;
    const minor = words[35]!;
    this.device = (major & 0xfff) * 256 + (minor & 0xff) + (minor >>> 8) * 2 ** 20 + (major >>> 12) * 2 ** 44;
  }
}

const basicStats = 0x7ff;
const noName = Buffer.of(0);
const nameBytes = Buffer.alloc(4097);

function terminated(name: string): Buffer {
  if (name.length >= nameBytes.length) throw new RangeError('the name is too long');
  nameBytes[nameBytes.write(name, 0, 'latin1')] = 0;
  return nameBytes;
}

/** Facts of an entry of an open folder, never following a link. */
export function statIn(folder: number, name: string, facts: FileFacts): void {
  const noFollow = 0x100;
  if (statx(folder, terminated(name), noFollow, basicStats, answer) !== 0) throw failed('statx');
  facts.fill();
}

/** Facts of an open file. */
export function statOpen(fd: number, facts: FileFacts): void {
  const emptyPath = 0x1000;
  if (statx(fd, noName, emptyPath, basicStats, answer) !== 0) throw failed('statx');
  facts.fill();
}

const closeOnExec = 0o2000000;

/** Opens an entry of an open folder. To be closed by {@link closeFile}, as Node keeps a record of what it has opened itself. */
export function openIn(folder: number, name: string, flags: number): number {
  for (;;) {
    const fd = openat(folder, terminated(name), flags | closeOnExec);
    if (fd >= 0) return fd;
    if (lastCode() !== 'EINTR') throw failed('openat');
  }
}

/** Reads at most `length` bytes at `offset` to the start of `to` and returns how many there were. */
export function readAt(fd: number, to: Uint8Array, length: number, offset: number): number {
  for (;;) {
    const got = Number(pread(fd, to, length, offset));
    if (got >= 0) return got;
    if (lastCode() !== 'EINTR') throw failed('pread');
  }
}

/** Writes all of `from` at `offset`. */
export function writeAt(fd: number, from: Uint8Array, offset: number): void {
  for (let done = 0; done < from.length;) {
    const written = Number(pwrite(fd, done === 0 ? from : from.subarray(done), from.length - done, offset + done));
    if (written === 0) throw new PosixError('EIO', 'pwrite');
    if (written > 0) done += written;
    else if (lastCode() !== 'EINTR') throw failed('pwrite');
  }
}

const thisFolder = Buffer.from('.\0');

/**
 * A new file for reading and writing in an open folder, without a name until {@link nameOpenFile}; -1 where the file system has no such files. To be closed by
 * {@link closeFile}.
 */
export function createNameless(folder: number): number {
  const readWriteTemporary = 0o20200002;
  return createat(folder, thisFolder, readWriteTemporary | closeOnExec, 0o600);
}

/** Gives a file made by {@link createNameless} a name in an open folder. Fails when something exists. */
export function nameOpenFile(fd: number, folder: number, name: string): void {
  const emptyPath = 0x1000;
  if (linkat(fd, noName, folder, terminated(name), emptyPath) === 0) return;
  const code = lastCode();
  if (code !== 'ENOENT' && code !== 'EPERM') throw failed('linkat');
  // without the right to link by descriptor alone, the way leads through /proc
  const atFdcwd = -100;
  const follow = 0x400;
  if (linkat(atFdcwd, Buffer.from(`/proc/self/fd/${fd}\0`), folder, terminated(name), follow) !== 0) throw failed('linkat');
}

export function ownOpen(fd: number, uid: number, gid: number): void {
  if (fchown(fd, uid, gid) !== 0) throw failed('fchown');
}

/** Sets the permission bits of an open file. */
export function modeOpen(fd: number, mode: number): void {
  if (fchmod(fd, mode) !== 0) throw failed('fchmod');
}

export function closeFile(fd: number): void {
  close(fd);
}

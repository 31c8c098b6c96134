import { addRun, type Blocks, type Run } from '../blocks';
import { damaged } from '../errors';
import { unixKinds, type UnixInode } from '../unix-inode';
import type { ExtLayout } from './superblock';

const flags = { encrypted: 0x800, extents: 0x80000, inline: 0x1000_0000 };

export interface Inode extends UnixInode {
  readonly data: Buffer;
  readonly encrypted: boolean;
  readonly inline: boolean;
  readonly extents: boolean;
  /** Block of attributes beyond those in the inode; 0 for none. */
  readonly attributeBlock: number;
  readonly device: number;
}

/** The four blocks of an inode that describe its content, as bytes. */
export const contentField = (inode: Inode): Buffer => inode.data.subarray(40, 100);

function timeNs(data: Buffer, at: number, extraAt: number): bigint {
  const seconds = BigInt(data.readInt32LE(at));
  const has = data.length >= 132 && extraAt + 4 <= 128 + data.readUInt16LE(128) && extraAt + 4 <= data.length;
  if (!has) return seconds * 1_000_000_000n;
  const extra = data.readUInt32LE(extraAt);
  return (seconds + (BigInt(extra & 3) << 32n)) * 1_000_000_000n + BigInt(extra >>> 2);
}

/** An inode of the file system; undefined where none is in use. */
export async function readInode(disk: Blocks, layout: ExtLayout, number: number): Promise<Inode | undefined> {
  if (number < 1 || number > layout.inodes) throw damaged(`number ${number} of an inode`);
  const group = Math.floor((number - 1) / layout.inodesPerGroup);
  const at = (await layout.inodeTable(group)) * layout.blockSize + ((number - 1) % layout.inodesPerGroup) * layout.inodeSize;
  const data = await disk.read(at, layout.inodeSize);
  const fullMode = data.readUInt16LE(0);
  const kind = unixKinds[fullMode & 0xf000];
  if (!kind) return undefined;
  const bits = data.readUInt32LE(32);
  const size = data.readUInt32LE(4) + data.readUInt32LE(0x6c) * 2 ** 32;
  if (!Number.isSafeInteger(size)) throw damaged('size of a file');
  const old = data.readUInt32LE(40);
  return {
    number,
    data,
    kind,
    mode: fullMode & 0o7777,
    uid: data.readUInt16LE(2) + data.readUInt16LE(0x78) * 65_536,
    gid: data.readUInt16LE(0x18) + data.readUInt16LE(0x7a) * 65_536,
    size,
    links: data.readUInt16LE(0x1a),
    mtimeNs: timeNs(data, 0x10, 0x88),
    ctimeNs: timeNs(data, 0xc, 0x84),
    encrypted: (bits & flags.encrypted) !== 0,
    inline: (bits & flags.inline) !== 0,
    extents: (bits & flags.extents) !== 0,
    attributeBlock: data.readUInt32LE(0x68) + data.readUInt16LE(0x76) * 2 ** 32,
    device: old === 0 ? data.readUInt32LE(44) : old,
  };
}

/** So many runs a file may have: one of a million extents is damage or an attack. */
const mostRuns = 1 << 20;

/** Where the content of an inode lies; stretches that are not there, or reserved and never written, are left out. */
export async function runsOf(disk: Blocks, layout: ExtLayout, inode: Inode): Promise<Run[]> {
  const runs: Run[] = [];
  if (inode.extents) await extentRuns(disk, layout, contentField(inode), 5, runs);
  else await blockRuns(disk, layout, inode, runs);
  return runs;
}

async function extentRuns(disk: Blocks, layout: ExtLayout, node: Buffer, deepest: number, runs: Run[]): Promise<void> {
  if (node.readUInt16LE(0) !== 0xf30a) throw damaged('extents of a file');
  const [count, depth] = [node.readUInt16LE(2), node.readUInt16LE(6)];
  if (depth > deepest || 12 + count * 12 > node.length) throw damaged('depth of extents');
  const { blockSize } = layout;
  for (let at = 12, n = 0; n < count; n++, at += 12) {
    if (depth > 0) {
      const block = node.readUInt32LE(at + 4) + node.readUInt16LE(at + 8) * 2 ** 32;
      const below = await disk.read(block * blockSize, blockSize);
      if (below.readUInt16LE(6) !== depth - 1) throw damaged('depth of extents');
      await extentRuns(disk, layout, below, depth - 1, runs);
      continue;
    }
    const length = node.readUInt16LE(at + 4);
    const start = node.readUInt32LE(at + 8) + node.readUInt16LE(at + 6) * 2 ** 32;
    const offset = node.readUInt32LE(at) * blockSize;
    const last = runs.at(-1);
    if (last && offset < last.offset + last.length) throw damaged('order of extents');
    if (length > 0 && length <= 32_768) addRun(runs, { offset, length: length * blockSize, at: start * blockSize });
    if (runs.length > mostRuns) throw damaged('number of extents');
  }
}

async function blockRuns(disk: Blocks, layout: ExtLayout, inode: Inode, runs: Run[]): Promise<void> {
  const { blockSize } = layout;
  const perBlock = blockSize / 4;
  const wanted = Math.ceil(inode.size / blockSize);
  const field = contentField(inode);
  let next = 0;
  const take = (block: number) => {
    if (block) addRun(runs, { offset: next * blockSize, length: blockSize, at: block * blockSize });
    if (runs.length > mostRuns) throw damaged('number of blocks');
    next++;
  };
  const walk = async (block: number, level: number): Promise<void> => {
    if (next >= wanted) return;
    if (block === 0) {
      next += perBlock ** level;
      return;
    }
    if (level === 0) {
      take(block);
      return;
    }
    const node = await disk.read(block * blockSize, blockSize);
    for (let i = 0; i < perBlock && next < wanted; i++) {
      const child = node.readUInt32LE(i * 4);
      if (level === 1) take(child);
      else await walk(child, level - 1);
    }
  };
  for (let i = 0; i < 12 && next < wanted; i++) take(field.readUInt32LE(i * 4));
  for (let level = 1; level <= 3; level++) await walk(field.readUInt32LE((11 + level) * 4), level);
}

import { addRun, type Blocks, type Run } from '../blocks';
import { damaged } from '../errors';
import { unixKinds, type UnixInode } from '../unix-inode';
import { u64be } from '../number-at';
import type { XfsLayout } from './layout';

const form = { device: 0, local: 1, extents: 2, tree: 3 };

/** A part of an inode that holds or leads to data: its content, or its attributes. */
export interface Fork {
  readonly form: number;
  readonly data: Buffer;
  readonly extents: number;
}

export interface XfsInode extends UnixInode {
  readonly content: Fork;
  readonly attributes: Fork | undefined;
}

/** Seconds before 1970 at which the long form of times begins. */
const longEpoch = 2n ** 31n;

/** Throws DISK_DAMAGED for what is no inode; undefined where it is not in use. */
export async function readXfsInode(disk: Blocks, layout: XfsLayout, number: number): Promise<XfsInode | undefined> {
  const data = await disk.read(layout.inodeAt(number), layout.inodeSize);
  if (data.toString('latin1', 0, 2) !== 'IN') throw damaged(`inode ${number}`);
  const fullMode = data.readUInt16BE(2);
  const kind = unixKinds[fullMode & 0xf000];
  if (!kind) return undefined;
  const recent = data[4]! >= 3;
  const more = recent ? data.readBigUInt64BE(120) : 0n;
  const time = (at: number) =>
    more & 8n
      ? data.readBigUInt64BE(at) - longEpoch * 1_000_000_000n
      : BigInt(data.readInt32BE(at)) * 1_000_000_000n + BigInt(data.readUInt32BE(at + 4));
  const manyExtents = (more & 16n) !== 0n;
  const contentAt = recent ? 176 : 100;
  const attributesAt = data[82] ? contentAt + data[82] * 8 : data.length;
  if (attributesAt > data.length) throw damaged(`inode ${number}`);
  return {
    number,
    kind,
    mode: fullMode & 0o7777,
    uid: data.readUInt32BE(8),
    gid: data.readUInt32BE(12),
    links: data.readUInt32BE(16),
    size: u64be(data, 56),
    mtimeNs: time(40),
    ctimeNs: time(48),
    content: {
      form: data[5]!,
      data: data.subarray(contentAt, attributesAt),
      extents: manyExtents ? u64be(data, 24) : data.readUInt32BE(76),
    },
    attributes: data[82]
      ? { form: data[83]!, data: data.subarray(attributesAt), extents: manyExtents ? data.readUInt32BE(76) : data.readUInt16BE(80) }
      : undefined,
  };
}

/** What lies in the inode itself; undefined where it is elsewhere. */
export const localOf = (fork: Fork): Buffer | undefined => (fork.form === form.local ? fork.data : undefined);

/** Number of a device as Linux hands it to programs. */
export function deviceOf({ content }: XfsInode): number {
  const number = content.data.readUInt32BE(0);
  const [major, minor] = [(number >> 18) & 0x3fff, number & 0x3_ffff];
  return (((major & 0xfff) << 8) | (minor & 0xff) | ((minor & ~0xff) << 12)) >>> 0;
}

const mostRuns = 1 << 20;

/** Where a fork lies, in order; reserved and never written stretches are left out. */
export async function forkRuns(disk: Blocks, layout: XfsLayout, fork: Fork): Promise<Run[]> {
  const runs: Run[] = [];
  if (fork.form === form.extents) recordsIn(layout, fork.data, 0, fork.extents, runs);
  else if (fork.form === form.tree) await treeRuns(disk, layout, fork.data, { level: undefined, runs });
  return runs;
}

function recordsIn(layout: XfsLayout, data: Buffer, from: number, count: number, runs: Run[]): void {
  if (from + count * 16 > data.length) throw damaged('extents of a file');
  for (let at = from, n = 0; n < count; n++, at += 16) {
    const [high, low] = [data.readBigUInt64BE(at), data.readBigUInt64BE(at + 8)];
    const offset = Number((high >> 9n) & ((1n << 54n) - 1n)) * layout.blockSize;
    const block = Number(((high & 0x1ffn) << 43n) | (low >> 21n));
    const length = Number(low & 0x1f_ffffn) * layout.blockSize;
    const last = runs.at(-1);
    if (last && offset < last.offset + last.length) throw damaged('order of extents');
    if (high >> 63n === 0n) addRun(runs, { offset, length, at: layout.blockAt(block) });
    if (runs.length > mostRuns) throw damaged('number of extents');
  }
}

interface Walk {
  /** Level that a node has to have; undefined for the top, which lies in the inode. */
  readonly level: number | undefined;
  readonly runs: Run[];
}

async function treeRuns(disk: Blocks, layout: XfsLayout, node: Buffer, { level: wanted, runs }: Walk): Promise<void> {
  const isTop = wanted === undefined;
  const level = node.readUInt16BE(isTop ? 0 : 4);
  const count = node.readUInt16BE(isTop ? 2 : 6);
  if (level > 8 || (!isTop && level !== wanted)) throw damaged('tree of extents');
  const header = isTop ? 4 : layout.sums ? 72 : 24;
  if (level === 0 && !isTop) {
    recordsIn(layout, node, header, count, runs);
    return;
  }
  const room = Math.floor((node.length - header) / 16);
  if (level === 0 || count > room) throw damaged('tree of extents');
  for (let n = 0; n < count; n++) {
    const at = layout.blockAt(u64be(node, header + room * 8 + n * 8));
    const child = await disk.read(at, layout.blockSize);
    const magic = child.toString('latin1', 0, 4);
    if (magic !== 'BMAP' && magic !== 'BMA3') throw damaged('tree of extents');
    await treeRuns(disk, layout, child, { level: level - 1, runs });
  }
}

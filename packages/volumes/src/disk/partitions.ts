import type { Blocks } from '../blocks';
import { damaged } from '../errors';
import { guidAt, u64le } from '../number-at';

/** A stretch of a disk that its table names. */
export interface Partition {
  readonly number: number;
  /** Bytes. */
  readonly offset: number;
  readonly size: number;
  /** Type: a GUID, or two hexadecimal digits. */
  readonly type: string;
  readonly name: string;
}

const sector = 512;
const mostPartitions = 256;
const emptyType = '00000000-0000-0000-0000-000000000000';
const extended = new Set([0x05, 0x0f, 0x85]);
const protective = 0xee;

/** The partitions of a disk, by its GPT or MBR; empty where it has no table. Those that reach beyond the end of the disk are left out. */
export async function partitionsOf(disk: Blocks): Promise<Partition[]> {
  if (disk.size < sector * 2) return [];
  const front = await disk.read(0, sector);
  if (front.readUInt16LE(510) !== 0xaa55) return [];
  const rows = [0, 1, 2, 3].map((n) => rowAt(front, 446 + n * 16));
  const found = rows.some((r) => r.type === protective) ? await gptOf(disk) : await mbrOf(disk, rows);
  return found.filter((p) => p.offset > 0 && p.size > 0 && p.offset + p.size <= disk.size);
}

function rowAt(data: Buffer, at: number) {
  return { type: data[at + 4]!, first: data.readUInt32LE(at + 8), count: data.readUInt32LE(at + 12) };
}

type Row = ReturnType<typeof rowAt>;

const partition = (number: number, type: number, first: number, count: number): Partition => ({
  number,
  offset: first * sector,
  size: count * sector,
  type: type.toString(16).padStart(2, '0'),
  name: '',
});

async function mbrOf(disk: Blocks, rows: readonly Row[]): Promise<Partition[]> {
  const found: Partition[] = [];
  for (const [n, { type, first, count }] of rows.entries()) {
    if (type === 0) continue;
    if (!extended.has(type)) found.push(partition(n + 1, type, first, count));
    else found.push(...(await logicalOf(disk, first)));
  }
  return found;
}

/** Logical partitions: each table holds one and leads to the next. */
async function logicalOf(disk: Blocks, start: number): Promise<Partition[]> {
  const found: Partition[] = [];
  const seen = new Set<number>();
  for (let at = start; !seen.has(at) && seen.size < mostPartitions;) {
    seen.add(at);
    if ((at + 1) * sector > disk.size) break;
    const data = await disk.read(at * sector, sector);
    if (data.readUInt16LE(510) !== 0xaa55) break;
    const [own, next] = [rowAt(data, 446), rowAt(data, 462)];
    if (own.type !== 0) found.push(partition(5 + found.length, own.type, at + own.first, own.count));
    if (!extended.has(next.type)) break;
    at = start + next.first;
  }
  return found;
}

async function gptOf(disk: Blocks): Promise<Partition[]> {
  for (const size of [512, 4096])
    for (const at of [size, disk.size - size]) {
      if (at < 0 || at + 512 > disk.size) continue;
      const header = await disk.read(at, 512);
      if (header.toString('latin1', 0, 8) === 'EFI PART') return gptEntries(disk, header, size);
    }
  throw damaged('table of partitions');
}

async function gptEntries(disk: Blocks, header: Buffer, sectorSize: number): Promise<Partition[]> {
  const at = u64le(header, 72) * sectorSize;
  const count = Math.min(mostPartitions, header.readUInt32LE(80));
  const size = header.readUInt32LE(84);
  if (size < 128 || size > 4096) throw damaged('table of partitions');
  const table = await disk.read(at, count * size);
  const found: Partition[] = [];
  for (let n = 0; n < count; n++) {
    const row = table.subarray(n * size, (n + 1) * size);
    const type = guidAt(row, 0);
    if (type === emptyType) continue;
    const [first, last] = [u64le(row, 32), u64le(row, 40)];
    const name = row.toString('utf16le', 56, 128).replace(/\0.*$/s, '');
    found.push({ number: n + 1, offset: first * sectorSize, size: (last - first + 1) * sectorSize, type, name });
  }
  return found;
}

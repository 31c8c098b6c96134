import { CachedBlocks, readRuns, stretchOf, type Blocks, type Run } from '../blocks';
import { damaged } from '../errors';
import { u64le } from '../number-at';
import { attributeType, readRecord, referenceAt, runsOfParts, type Attribute, type FileRecord } from './record';

/** A file as all its records describe it. */
export interface FileOfTable {
  readonly record: FileRecord;
  readonly attributes: readonly Attribute[];
}

/** So many bytes a list of attributes may have, and so many records a file. */
const mostList = 1 << 20;
const mostRecords = 4096;

/** What a boot sector says; undefined where it is none of NTFS. */
export function ntfsSigns(front: Buffer): { type: string; label: string; size: number } | undefined {
  if (front.length < 512 || front.toString('latin1', 3, 11) !== 'NTFS    ') return undefined;
  return { type: 'NTFS', label: '', size: (u64le(front, 40) + 1) * front.readUInt16LE(11) };
}

/** The master file table: every file is a record of it. */
export class MasterTable {
  private runs: readonly Run[] = [];
  private count = 0;

  private constructor(
    readonly disk: Blocks,
    readonly clusterSize: number,
    private readonly recordSize: number,
    readonly indexSize: number,
  ) {}

  static async open(blocks: Blocks): Promise<MasterTable> {
    const front = await blocks.read(0, 512);
    const signs = ntfsSigns(front);
    const sector = front.readUInt16LE(11);
    const perCluster = front[13]! > 128 ? 2 ** (256 - front[13]!) : front[13]!;
    const clusterSize = sector * perCluster;
    const sizeOf = (at: number) => {
      const value = front.readInt8(at);
      return value > 0 ? value * clusterSize : 2 ** -value;
    };
    const isPowerOf2 = (n: number) => n >= 512 && n <= 2 << 20 && Number.isInteger(Math.log2(n));
    const [recordSize, indexSize] = [sizeOf(64), sizeOf(68)];
    if (!signs || ![sector, clusterSize, recordSize, indexSize].every(isPowerOf2) || recordSize > 65_536 || indexSize > 65_536)
      throw damaged('boot sector');
    const disk = new CachedBlocks(stretchOf(blocks, 0, Math.min(blocks.size, signs.size)));
    const table = new MasterTable(disk, clusterSize, recordSize, indexSize);
    await table.openItself(u64le(front, 48) * clusterSize);
    return table;
  }

  /** The table is a file of its own: its first record says where the others are. */
  private async openItself(at: number): Promise<void> {
    const own = readRecord(await this.disk.read(at, this.recordSize), 0);
    const here = own.attributes.filter((a) => a.type === attributeType.data && a.name === '');
    const [first] = here;
    if (!first) throw damaged('master file table');
    this.runs = runsOfParts(here, this.clusterSize);
    this.count = Math.floor(first.size / this.recordSize);
    const whole = await this.file(0);
    const parts = partsOf(whole.attributes, attributeType.data, '');
    this.runs = runsOfParts(parts, this.clusterSize);
  }

  /** A record by its number. Throws DISK_DAMAGED. */
  async record(number: number): Promise<FileRecord> {
    if (number < 0 || number >= this.count) throw damaged(`record ${number}`);
    return readRecord(await readRuns(this.disk, this.runs, number * this.recordSize, this.recordSize), number);
  }

  /** A file with the attributes of all its records. */
  async file(number: number): Promise<FileOfTable> {
    const record = await this.record(number);
    const list = record.attributes.find((a) => a.type === attributeType.list);
    if (!list) return { record, attributes: record.attributes };
    const attributes = [...record.attributes];
    for (const other of await this.othersIn(list, number)) {
      const part = await this.record(other);
      if (part.base !== number) throw damaged(`record ${other}`);
      attributes.push(...part.attributes);
    }
    return { record, attributes };
  }

  private async othersIn(list: Attribute, own: number): Promise<number[]> {
    if (list.size > mostList) throw damaged('list of attributes');
    const data = await this.value([list]);
    const others = new Set<number>();
    for (let at = 0; at + 26 <= data.length;) {
      const number = referenceAt(data, at + 16);
      if (number !== own) others.add(number);
      const length = data.readUInt16LE(at + 4);
      if (length < 26 || others.size > mostRecords) throw damaged('list of attributes');
      at += length;
    }
    return [...others];
  }

  /** All bytes of a small attribute. */
  async value(parts: readonly Attribute[]): Promise<Buffer> {
    const [first] = parts;
    if (!first) return Buffer.alloc(0);
    if (first.resident) return first.resident;
    if (first.size > 64 << 20) throw damaged('size of an attribute');
    return readRuns(this.disk, runsOfParts(parts, this.clusterSize), 0, first.size);
  }
}

/** The parts of one attribute in order. */
export function partsOf(attributes: readonly Attribute[], type: number, name: string): Attribute[] {
  return attributes.filter((a) => a.type === type && a.name === name).sort((a, b) => a.firstVcn - b.firstVcn);
}

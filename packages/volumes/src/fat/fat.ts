import { CachedBlocks, readRuns, stretchOf, type Blocks, type Run } from '../blocks';
import { asDamage, damaged } from '../errors';
import { Recent, type FileSystem, type ItemDetail, type VolumeItem } from '../file-system';
import { utf16Name } from '../number-at';
import { chainRuns, type ClusterTable } from './cluster-chain';
import { shortText } from './code-page';
import { dosTimeNs } from './dos-time';

const attribute = { readOnly: 1, volume: 8, folder: 16, longName: 15 };
const entrySize = 32;
/** What a folder of a FAT may take at most: 65 536 entries. */
const mostFolder = 65_536 * entrySize;

interface FatLayout {
  readonly table: ClusterTable;
  /** The top folder where it has a place of its own (FAT12 and FAT16); else its first cluster. */
  readonly top: Run | number;
}

/** What a boot sector says; undefined where it is none of a FAT. */
export function fatSigns(front: Buffer): { type: string; label: string; size: number } | undefined {
  const fat = fatBoot(front);
  if (!fat) return undefined;
  const labelAt = fat.bits === 32 ? 71 : 43;
  const label = shortText(front.subarray(labelAt, labelAt + 11)).trim();
  return { type: `FAT${fat.bits}`, label: label === 'NO NAME' ? '' : label, size: fat.sectors * fat.sectorSize };
}

function fatBoot(front: Buffer) {
  if (front.length < 512 || front.readUInt16LE(510) !== 0xaa55) return undefined;
  const sectorSize = front.readUInt16LE(11);
  const perCluster = front[13]!;
  const reserved = front.readUInt16LE(14);
  const copies = front[16]!;
  const isPowerOf2 = (n: number) => n > 0 && (n & (n - 1)) === 0;
  if (![512, 1024, 2048, 4096].includes(sectorSize) || !isPowerOf2(perCluster) || reserved === 0 || copies === 0 || copies > 4)
    return undefined;
  const rootEntries = front.readUInt16LE(17);
  const sectors = front.readUInt16LE(19) || front.readUInt32LE(32);
  const short = front.readUInt16LE(22);
  const tableSectors = short || front.readUInt32LE(36);
  const rootSectors = Math.ceil((rootEntries * entrySize) / sectorSize);
  const firstData = reserved + copies * tableSectors + rootSectors;
  const clusters = Math.floor((sectors - firstData) / perCluster);
  if (tableSectors === 0 || clusters < 1 || (short === 0 && rootEntries !== 0)) return undefined;
  const bits: 12 | 16 | 32 = short === 0 ? 32 : clusters < 4085 ? 12 : 16;
  const rootAt = (reserved + copies * tableSectors) * sectorSize;
  return { bits, sectorSize, sectors, perCluster, reserved, rootAt, rootBytes: rootEntries * entrySize, firstData, clusters };
}

/** FAT12, FAT16 and FAT32, after the specification of Microsoft ("FAT: General Overview of On-Disk Format"). */
export class FatFileSystem implements FileSystem {
  private readonly files: Recent<readonly Run[]>;

  private constructor(
    private readonly disk: Blocks,
    private readonly layout: FatLayout,
  ) {
    this.files = new Recent(64, (first) => this.runs(first));
  }

  static async open(blocks: Blocks): Promise<FatFileSystem> {
    try {
      const front = await blocks.read(0, 512);
      const boot = fatBoot(front);
      if (!boot) throw damaged('boot sector');
      const disk = new CachedBlocks(stretchOf(blocks, 0, Math.min(blocks.size, boot.sectors * boot.sectorSize)));
      const table: ClusterTable = {
        disk,
        bits: boot.bits,
        at: boot.reserved * boot.sectorSize,
        clusters: boot.clusters,
        clusterSize: boot.perCluster * boot.sectorSize,
        heapAt: boot.firstData * boot.sectorSize,
        mask: 0x0fff_ffff,
      };
      const top = boot.bits === 32 ? front.readUInt32LE(44) : { offset: 0, length: boot.rootBytes, at: boot.rootAt };
      return new FatFileSystem(disk, { table, top });
    } catch (error) {
      throw asDamage(error, 'FAT');
    }
  }

  /** Of the top folder, key 0, and of whatever begins at a cluster. */
  private async runs(first: number): Promise<readonly Run[]> {
    const { top, table } = this.layout;
    if (first !== 0) return chainRuns(table, first);
    return typeof top === 'number' ? chainRuns(table, top) : [top];
  }

  top(): Promise<VolumeItem> {
    const none = { size: 0, mtimeNs: 0n, ctimeNs: 0n, uid: 0, gid: 0, linked: false };
    return Promise.resolve({ name: '', kind: 'folder', key: 0, mode: 0o755, ...none });
  }

  async *list(folder: number): AsyncGenerator<VolumeItem[]> {
    try {
      const runs = await this.files.get(folder);
      const long = new LongName();
      let passed = 0;
      for (const run of runs)
        for (let at = 0; at < run.length; at += 32_768) {
          const data = await this.disk.read(run.at + at, Math.min(32_768, run.length - at));
          const items: VolumeItem[] = [];
          for (let from = 0; from + entrySize <= data.length; from += entrySize) {
            const entry = data.subarray(from, from + entrySize);
            if (entry[0] === 0) {
              yield items;
              return;
            }
            const item = itemOf(entry, long);
            if (item) items.push(item);
          }
          yield items;
          passed += data.length;
          if (passed > mostFolder) throw damaged('a folder that is too long');
        }
    } catch (error) {
      throw asDamage(error, 'folder');
    }
  }

  detail(): Promise<ItemDetail> {
    return Promise.resolve({});
  }

  async read(file: number, offset: number, length: number): Promise<Buffer> {
    try {
      return await readRuns(this.disk, await this.files.get(file), offset, length);
    } catch (error) {
      throw asDamage(error, 'file');
    }
  }
}

/** Gathers the pieces of a long name, which stand before the entry they belong to, the last one first. */
class LongName {
  private parts: Buffer[] = [];
  private sum = -1;
  private next = 0;

  add(entry: Buffer): void {
    const order = entry[0]!;
    if (order & 0x40) {
      this.parts = [];
      this.sum = entry[13]!;
      this.next = order & 0x3f;
    }
    if ((order & 0x3f) !== this.next || entry[13] !== this.sum || this.next === 0) {
      this.clear();
      return;
    }
    this.parts.unshift(Buffer.concat([entry.subarray(1, 11), entry.subarray(14, 26), entry.subarray(28, 32)]));
    this.next--;
  }

  /** The name gathered for an entry, as UTF-16; undefined where it belongs to another. */
  take(entry: Buffer): Buffer | undefined {
    let sum = 0;
    for (let i = 0; i < 11; i++) sum = (((sum & 1) << 7) + (sum >> 1) + entry[i]!) & 255;
    const whole = this.parts.length > 0 && this.next === 0 && sum === this.sum;
    const name = Buffer.concat(this.parts);
    this.clear();
    if (!whole) return undefined;
    for (let at = 0; at < name.length; at += 2) if (name.readUInt16LE(at) === 0) return name.subarray(0, at);
    return name;
  }

  private clear(): void {
    this.parts = [];
    this.sum = -1;
    this.next = 0;
  }
}

function itemOf(entry: Buffer, long: LongName): VolumeItem | undefined {
  const bits = entry[11]!;
  if (entry[0] === 0xe5) return undefined;
  if ((bits & 0x3f) === attribute.longName) {
    long.add(entry);
    return undefined;
  }
  const gathered = long.take(entry);
  if (bits & attribute.volume) return undefined;
  const name = gathered ? utf16Name(gathered) : shortName(entry);
  if (name === '.' || name === '..' || name === '') return undefined;
  const isFolder = (bits & attribute.folder) !== 0;
  const mtimeNs = dosTimeNs(entry.readUInt16LE(24), entry.readUInt16LE(22));
  return {
    name,
    kind: isFolder ? 'folder' : 'file',
    key: entry.readUInt16LE(20) * 65_536 + entry.readUInt16LE(26),
    size: isFolder ? 0 : entry.readUInt32LE(28),
    mtimeNs,
    ctimeNs: mtimeNs,
    mode: (isFolder ? 0o755 : 0o644) & (bits & attribute.readOnly ? 0o555 : 0o777),
    uid: 0,
    gid: 0,
    linked: false,
  };
}

function shortName(entry: Buffer): string {
  const bytes = Buffer.from(entry.subarray(0, 11));
  if (bytes[0] === 5) bytes[0] = 0xe5;
  const lower = entry[12]!;
  const part = (from: number, to: number, isLower: boolean) => {
    const text = shortText(bytes.subarray(from, to)).trimEnd();
    return isLower ? text.toLowerCase() : text;
  };
  const [base, ending] = [part(0, 8, (lower & 8) !== 0), part(8, 11, (lower & 16) !== 0)];
  return Buffer.from(ending ? `${base}.${ending}` : base, 'utf8').toString('latin1');
}

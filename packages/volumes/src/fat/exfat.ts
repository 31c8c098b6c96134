import { CachedBlocks, dataRanges, readRuns, stretchOf, type Blocks, type Run } from '../blocks';
import { asDamage, damaged } from '../errors';
import { Recent, type FileSystem, type ItemDetail, type VolumeItem } from '../file-system';
import { u64le, utf16Name } from '../number-at';
import { chainRuns, rowOfClusters, type ClusterTable } from './cluster-chain';
import { dosTimeNs } from './dos-time';

const entrySize = 32;
const type = { file: 0x85, stream: 0xc0, name: 0xc1 };
const noChain = 2;
/** What a folder may take at most, after the specification. */
const mostFolder = 256 << 20;

/** What a boot sector says; undefined where it is none of an exFAT. */
export function exfatSigns(front: Buffer): { type: string; label: string; size: number } | undefined {
  if (front.length < 512 || front.toString('latin1', 3, 11) !== 'EXFAT   ') return undefined;
  return { type: 'exFAT', label: '', size: u64le(front, 72) * 2 ** Math.min(12, front[108]!) };
}

/** exFAT, after the specification of Microsoft. A file is known by its first cluster and whether its clusters are chained. */
export class ExfatFileSystem implements FileSystem {
  private readonly files: Recent<readonly Run[]>;
  /** How much of a file was ever written; the rest reads as zeros. */
  private readonly written = new Map<number, number>();

  private constructor(
    private readonly disk: Blocks,
    private readonly table: ClusterTable,
    private readonly topCluster: number,
  ) {
    this.files = new Recent(64, (key) => this.runs(key));
  }

  static async open(blocks: Blocks): Promise<ExfatFileSystem> {
    try {
      const front = await blocks.read(0, 512);
      const [sectorShift, clusterShift] = [front[108]!, front[109]!];
      if (!exfatSigns(front) || sectorShift < 9 || sectorShift > 12 || clusterShift > 25 - sectorShift) throw damaged('boot sector');
      const sector = 2 ** sectorShift;
      const disk = new CachedBlocks(stretchOf(blocks, 0, Math.min(blocks.size, u64le(front, 72) * sector)));
      const table: ClusterTable = {
        disk,
        bits: 32,
        at: front.readUInt32LE(80) * sector,
        clusters: front.readUInt32LE(92),
        clusterSize: sector * 2 ** clusterShift,
        heapAt: front.readUInt32LE(88) * sector,
        mask: 0xffff_ffff,
      };
      if (table.heapAt + table.clusters * table.clusterSize > disk.size) throw damaged('clusters beyond the end');
      return new ExfatFileSystem(disk, table, front.readUInt32LE(96));
    } catch (error) {
      throw asDamage(error, 'exFAT');
    }
  }

  private async runs(key: number): Promise<readonly Run[]> {
    const cluster = Math.floor(key / 2);
    return key % 2 ? rowOfClusters(this.table, cluster) : chainRuns(this.table, cluster);
  }

  top(): Promise<VolumeItem> {
    const none = { size: 0, mtimeNs: 0n, ctimeNs: 0n, uid: 0, gid: 0, linked: false };
    return Promise.resolve({ name: '', kind: 'folder', key: this.topCluster * 2, mode: 0o755, ...none });
  }

  async *list(folder: number): AsyncGenerator<VolumeItem[]> {
    try {
      const runs = await this.files.get(folder);
      const { clusterSize } = this.table;
      let waiting: Buffer[] = [];
      let wanted = 0;
      let passed = 0;
      for (const run of runs)
        for (let at = 0; at < run.length; at += clusterSize) {
          const data = await this.disk.read(run.at + at, clusterSize);
          const items: VolumeItem[] = [];
          for (let from = 0; from < data.length; from += entrySize) {
            const entry = data.subarray(from, from + entrySize);
            if (entry[0] === 0) {
              yield items;
              return;
            }
            if (entry[0] === type.file) {
              waiting = [entry];
              wanted = entry[1]! + 1;
            } else if (waiting.length && waiting.length < wanted && entry[0]! & 0x40) waiting.push(entry);
            else waiting = [];
            if (waiting.length && waiting.length === wanted) {
              const item = this.itemOf(waiting);
              if (item) items.push(item);
              waiting = [];
            }
          }
          yield items;
          passed += data.length;
          if (passed > mostFolder) throw damaged('a folder that is too long');
        }
    } catch (error) {
      throw asDamage(error, 'folder');
    }
  }

  private itemOf(set: readonly Buffer[]): VolumeItem | undefined {
    const file = set[0]!;
    const stream = set.find((e) => e[0] === type.stream);
    if (!stream) return undefined;
    const text = Buffer.concat(set.filter((e) => e[0] === type.name).map((e) => e.subarray(2))).subarray(0, stream[3]! * 2);
    const isFolder = (file.readUInt16LE(4) & 16) !== 0;
    const key = stream.readUInt32LE(20) * 2 + (stream[1]! & noChain ? 1 : 0);
    const size = u64le(stream, 24);
    this.written.set(key, u64le(stream, 8));
    if (this.written.size > 100_000) for (const oldest of this.written.keys()) if (this.written.delete(oldest)) break;
    const name = utf16Name(text);
    if (name === '' || name === '.' || name === '..') return undefined;
    return {
      name,
      kind: isFolder ? 'folder' : 'file',
      key,
      size: isFolder ? 0 : size,
      mtimeNs: stampNs(file, 12, 21, 23),
      ctimeNs: stampNs(file, 8, 20, 22),
      mode: (isFolder ? 0o755 : 0o644) & (file.readUInt16LE(4) & 1 ? 0o555 : 0o777),
      uid: 0,
      gid: 0,
      linked: false,
    };
  }

  detail(item: VolumeItem): Promise<ItemDetail> {
    const written = this.written.get(item.key);
    if (item.kind !== 'file' || written === undefined || written >= item.size) return Promise.resolve({});
    return Promise.resolve({ ranges: dataRanges([{ offset: 0, length: written, at: 0 }], item.size) });
  }

  async read(file: number, offset: number, length: number): Promise<Buffer> {
    try {
      return await readRuns(this.disk, await this.files.get(file), offset, length);
    } catch (error) {
      throw asDamage(error, 'file');
    }
  }
}

function stampNs(entry: Buffer, at: number, hundredthsAt: number, zoneAt: number): bigint {
  const local = dosTimeNs(entry.readUInt16LE(at + 2), entry.readUInt16LE(at), entry[hundredthsAt]);
  const zone = entry[zoneAt]!;
  const quarters = zone & 0x80 ? ((zone & 0x7f) ^ 0x40) - 0x40 : 0;
  return local - BigInt(quarters * 15 * 60) * 1_000_000_000n;
}

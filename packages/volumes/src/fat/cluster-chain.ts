import { addRun, type Blocks, type Run } from '../blocks';
import { damaged } from '../errors';

/** How clusters lead to each other and where they lie. Clusters are counted from 2. */
export interface ClusterTable {
  readonly disk: Blocks;
  /** Bits of an entry. */
  readonly bits: 12 | 16 | 32;
  /** Where the table begins. */
  readonly at: number;
  /** Number of clusters. */
  readonly clusters: number;
  readonly clusterSize: number;
  /** Where the first cluster lies. */
  readonly heapAt: number;
  /** Bits of an entry that count. */
  readonly mask: number;
}

/** The cluster that follows; undefined at the end of a chain. */
async function after(table: ClusterTable, cluster: number): Promise<number | undefined> {
  const { bits, at, disk } = table;
  let next: number;
  if (bits === 12) {
    const pair = (await disk.read(at + Math.floor(cluster * 1.5), 2)).readUInt16LE(0);
    next = cluster & 1 ? pair >> 4 : pair & 0xfff;
  } else if (bits === 16) next = (await disk.read(at + cluster * 2, 2)).readUInt16LE(0);
  else next = ((await disk.read(at + cluster * 4, 4)).readUInt32LE(0) & table.mask) >>> 0;
  const last = (bits === 12 ? 0xff8 : bits === 16 ? 0xfff8 : 0x0fff_fff8) >>> 0;
  return next >= last && table.mask !== 0xffff_ffff ? undefined : next >= 0xffff_fff8 ? undefined : next;
}

function checked(table: ClusterTable, cluster: number): number {
  if (cluster < 2 || cluster >= table.clusters + 2) throw damaged(`cluster ${cluster}`);
  return cluster;
}

export const clusterAt = (table: ClusterTable, cluster: number): number => table.heapAt + (checked(table, cluster) - 2) * table.clusterSize;

/** Where a chain of clusters lies. Throws DISK_DAMAGED for one that comes back to itself. */
export async function chainRuns(table: ClusterTable, first: number): Promise<Run[]> {
  const runs: Run[] = [];
  let seen = 0;
  for (let cluster: number | undefined = first; cluster !== undefined; cluster = await after(table, cluster)) {
    if (seen > table.clusters) throw damaged('a chain of clusters that has no end');
    addRun(runs, { offset: seen * table.clusterSize, length: table.clusterSize, at: clusterAt(table, cluster) });
    seen++;
  }
  return runs;
}

/** Where clusters lie that follow each other without being chained. */
export function rowOfClusters(table: ClusterTable, first: number): Run[] {
  return [{ offset: 0, length: (table.clusters + 2 - checked(table, first)) * table.clusterSize, at: clusterAt(table, first) }];
}

/**
 * Layout of a disk image in the open QCOW2 format, version 3, with clusters of 64 KiB, written from front to back: header, reference counts, tables, then the clusters that hold data.
 * Field by field as in "docs/interop/qcow2" of the format's documentation.
 */
export const qcow2Cluster = 65_536;
const magic = 0x514649fb;
const headerBytes = 104;
const entriesPerTable = qcow2Cluster / 8;
/** Reference counts have 16 bits. */
const countsPerBlock = qcow2Cluster / 2;
/** Set where a table or cluster is referenced once. */
const copied = 1n << 63n;

export interface Qcow2Layout {
  /** Bytes of the whole file. */
  readonly fileSize: number;
  /** All that comes before the data, part by part. */
  readonly front: () => Generator<Uint8Array>;
}

const clustersFor = (bytes: number) => Math.ceil(bytes / qcow2Cluster);

/** `data`: numbers of the clusters that hold data, rising; they follow the front in this order, the last one of the disk filled up with zeros. `size`: of the disk, in bytes. */
export function qcow2Layout(size: number, data: Uint32Array): Qcow2Layout {
  const tables = Math.ceil(clustersFor(size) / entriesPerTable);
  const l1Clusters = clustersFor(Math.max(1, tables) * 8);
  const usedTables = countUsedTables(data);
  const before = 1 + l1Clusters + usedTables + data.length;
  let blocks = Math.ceil(before / countsPerBlock);
  let tableClusters = clustersFor(blocks * 8);
  while (before + blocks + tableClusters > blocks * countsPerBlock) {
    blocks++;
    tableClusters = clustersFor(blocks * 8);
  }
  const countTableAt = 1;
  const countBlocksAt = countTableAt + tableClusters;
  const l1At = countBlocksAt + blocks;
  const l2At = l1At + l1Clusters;
  const dataAt = l2At + usedTables;
  const total = dataAt + data.length;

  function* front(): Generator<Uint8Array> {
    yield header(size, tables, l1At, countTableAt, tableClusters);
    const countTable = new Uint8Array(tableClusters * qcow2Cluster);
    const countView = new DataView(countTable.buffer);
    for (let i = 0; i < blocks; i++) countView.setBigUint64(i * 8, BigInt(countBlocksAt + i) * BigInt(qcow2Cluster));
    yield countTable;
    for (let block = 0; block < blocks; block++) {
      const counts = new Uint8Array(qcow2Cluster);
      const used = Math.max(0, Math.min(countsPerBlock, total - block * countsPerBlock));
      for (let i = 0; i < used; i++) counts[i * 2 + 1] = 1;
      yield counts;
    }
    const l1 = new Uint8Array(l1Clusters * qcow2Cluster);
    const l1View = new DataView(l1.buffer);
    let next = l2At;
    let last = -1;
    for (const cluster of data) {
      const table = Math.floor(cluster / entriesPerTable);
      if (table === last) continue;
      l1View.setBigUint64(table * 8, (BigInt(next++) * BigInt(qcow2Cluster)) | copied);
      last = table;
    }
    yield l1;
    for (let at = 0; at < data.length;) {
      const table = Math.floor(data[at]! / entriesPerTable);
      const l2 = new Uint8Array(qcow2Cluster);
      const view = new DataView(l2.buffer);
      for (; at < data.length && Math.floor(data[at]! / entriesPerTable) === table; at++)
        view.setBigUint64((data[at]! % entriesPerTable) * 8, (BigInt(dataAt + at) * BigInt(qcow2Cluster)) | copied);
      yield l2;
    }
  }
  return { fileSize: total * qcow2Cluster, front };
}

function countUsedTables(data: Uint32Array): number {
  let count = 0;
  let last = -1;
  for (const cluster of data) {
    const table = Math.floor(cluster / entriesPerTable);
    if (table !== last) count++;
    last = table;
  }
  return count;
}

function header(size: number, tables: number, l1At: number, countTableAt: number, countTableClusters: number): Uint8Array {
  const bytes = new Uint8Array(qcow2Cluster);
  const view = new DataView(bytes.buffer);
  view.setUint32(0, magic);
  view.setUint32(4, 3);
  view.setUint32(20, Math.log2(qcow2Cluster));
  view.setBigUint64(24, BigInt(size));
  view.setUint32(36, tables);
  view.setBigUint64(40, BigInt(l1At) * BigInt(qcow2Cluster));
  view.setBigUint64(48, BigInt(countTableAt) * BigInt(qcow2Cluster));
  view.setUint32(56, countTableClusters);
  view.setUint32(96, 4);
  view.setUint32(100, headerBytes);
  return bytes;
}

import { addRun, type Run } from '../blocks';
import { damaged } from '../errors';
import { u64le } from '../number-at';

export const attributeType = {
  standard: 0x10,
  list: 0x20,
  name: 0x30,
  volumeName: 0x60,
  data: 0x80,
  indexRoot: 0x90,
  indexAllocation: 0xa0,
  bitmap: 0xb0,
  reparse: 0xc0,
};

/** An attribute of a file, whole or a part of it. */
export interface Attribute {
  readonly type: number;
  readonly id: number;
  /** UTF-16, '' for the nameless one. */
  readonly name: string;
  readonly compressed: boolean;
  readonly encrypted: boolean;
  /** Its value where it lies in the record. */
  readonly resident: Buffer | undefined;
  /** First cluster of the file that this part is of. */
  readonly firstVcn: number;
  /** Clusters in order; `lcn` -1 for those that are not there. */
  readonly clusters: readonly { readonly vcn: number; readonly count: number; readonly lcn: number }[];
  readonly size: number;
  /** Bytes from the front that were ever written. */
  readonly initialized: number;
  /** Clusters of a unit of compression. */
  readonly unit: number;
}

export interface FileRecord {
  readonly number: number;
  readonly inUse: boolean;
  readonly isFolder: boolean;
  readonly links: number;
  /** Record this one is a part of; 0 for none. */
  readonly base: number;
  readonly attributes: readonly Attribute[];
}

/** A record with the ends of its sectors put back where they were kept apart. Throws DISK_DAMAGED where they do not fit. */
export function withFixups(stored: Buffer, signature: string): Buffer {
  if (stored.toString('latin1', 0, 4) !== signature) throw damaged(`no ${signature} record`);
  const data = Buffer.from(stored);
  const at = data.readUInt16LE(4);
  const count = data.readUInt16LE(6);
  if (count < 1 || (count - 1) * 512 > data.length) throw damaged('ends of sectors');
  const mark = data.readUInt16LE(at);
  for (let i = 1; i < count; i++) {
    const end = i * 512 - 2;
    if (data.readUInt16LE(end) !== mark) throw damaged('a record that was not written whole');
    data.writeUInt16LE(data.readUInt16LE(at + i * 2), end);
  }
  return data;
}

/** Reads a record of the master table. Throws DISK_DAMAGED or RangeError. */
export function readRecord(stored: Buffer, number: number): FileRecord {
  const data = withFixups(stored, 'FILE');
  const flags = data.readUInt16LE(22);
  const end = Math.min(data.length, data.readUInt32LE(24));
  const attributes: Attribute[] = [];
  for (let at = data.readUInt16LE(20); at + 8 <= end && data.readUInt32LE(at) !== 0xffff_ffff;) {
    const length = data.readUInt32LE(at + 4);
    if (length < 16 || at + length > end) throw damaged('attribute of a file');
    attributes.push(readAttribute(data.subarray(at, at + length)));
    at += length;
  }
  return {
    number,
    inUse: (flags & 1) !== 0,
    isFolder: (flags & 2) !== 0,
    links: data.readUInt16LE(18),
    base: referenceAt(data, 32),
    attributes,
  };
}

/** Number of the record that a reference leads to, without its count of uses. */
export function referenceAt(data: Buffer, at: number): number {
  return data.readUIntLE(at, 6);
}

function readAttribute(data: Buffer): Attribute {
  const nameLength = data[9]!;
  const nameAt = data.readUInt16LE(10);
  const bits = data.readUInt16LE(12);
  const common = {
    type: data.readUInt32LE(0),
    id: data.readUInt16LE(14),
    name: data.toString('utf16le', nameAt, nameAt + nameLength * 2),
    compressed: (bits & 0xff) !== 0,
    encrypted: (bits & 0x4000) !== 0,
  };
  if (data[8] === 0) {
    const [size, from] = [data.readUInt32LE(16), data.readUInt16LE(20)];
    if (from + size > data.length) throw damaged('value of an attribute');
    const resident = data.subarray(from, from + size);
    return { ...common, compressed: false, resident, firstVcn: 0, clusters: [], size, initialized: size, unit: 0 };
  }
  const firstVcn = u64le(data, 16);
  const isFirst = firstVcn === 0;
  const clusters = readClusters(data.subarray(data.readUInt16LE(32)), firstVcn);
  const [size, initialized] = isFirst ? [u64le(data, 48), u64le(data, 56)] : [0, 0];
  const shift = data.readUInt16LE(34) & 0xff;
  if (shift > 8) throw damaged('unit of compression');
  return { ...common, resident: undefined, firstVcn, clusters, size, initialized, unit: common.compressed && shift ? 2 ** shift : 0 };
}

function readClusters(list: Buffer, firstVcn: number): Attribute['clusters'] {
  const clusters: { vcn: number; count: number; lcn: number }[] = [];
  let vcn = firstVcn;
  let lcn = 0;
  for (let at = 0; at < list.length && list[at] !== 0;) {
    const [countBytes, placeBytes] = [list[at]! & 15, list[at]! >> 4];
    if (countBytes < 1 || countBytes > 6 || placeBytes > 6) throw damaged('clusters of a file');
    const count = list.readUIntLE(at + 1, countBytes);
    if (placeBytes) lcn += list.readIntLE(at + 1 + countBytes, placeBytes);
    if (lcn < 0) throw damaged('clusters of a file');
    clusters.push({ vcn, count, lcn: placeBytes ? lcn : -1 });
    vcn += count;
    if (!Number.isSafeInteger(vcn)) throw damaged('clusters of a file');
    at += 1 + countBytes + placeBytes;
  }
  return clusters;
}

/** Where the parts of an attribute lie on the disk, those that are not there left out. */
export function runsOfParts(parts: readonly Attribute[], clusterSize: number): Run[] {
  const runs: Run[] = [];
  for (const { clusters } of parts)
    for (const { vcn, count, lcn } of clusters) {
      const run = { offset: vcn * clusterSize, length: count * clusterSize, at: lcn * clusterSize };
      const last = runs.at(-1);
      if (last && run.offset < last.offset + last.length) throw damaged('order of clusters');
      if (lcn >= 0) addRun(runs, run);
    }
  return runs;
}

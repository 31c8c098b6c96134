import fs from 'node:fs';
import { CloudError } from './cloud-error';

const magic = 0x514649fb;
const offsetBits = 0x00ff_ffff_ffff_fe00n;
const compressed = 1n << 62n;

/** A cluster of an image that holds data, and where on the disk it belongs; bytes. */
export interface Cluster {
  readonly offset: number;
  readonly data: Buffer;
}

/**
 * Reads an image in the open QCOW2 format (version 2 or 3, neither compressed nor encrypted): its size in bytes, and the clusters that hold data. What is not allocated is left
 * out, so that an image laid over another one changes only what it holds. Field by field as in "docs/interop/qcow2" of the format's documentation.
 */
export function readQcow2(fd: number): { readonly size: number; readonly clusters: () => Generator<Cluster> } {
  const header = at(fd, 0, 72);
  if (header.readUInt32BE(0) !== magic) throw new CloudError('INVALID', 'the staged object is no QCOW2 image');
  if (header.readUInt32BE(32) !== 0) throw new CloudError('INVALID', 'the image is encrypted');
  const cluster = 2 ** header.readUInt32BE(20);
  const size = Number(header.readBigUInt64BE(24));
  const l1 = at(fd, Number(header.readBigUInt64BE(40)), header.readUInt32BE(36) * 8);
  const perTable = cluster / 8;

  function* clusters(): Generator<Cluster> {
    for (let i = 0; i * 8 < l1.length; i++) {
      const table = Number(l1.readBigUInt64BE(i * 8) & offsetBits);
      if (table === 0) continue;
      const l2 = at(fd, table, cluster);
      for (let j = 0; j < perTable; j++) {
        const entry = l2.readBigUInt64BE(j * 8);
        const offset = (i * perTable + j) * cluster;
        if (offset >= size) break;
        if (entry & compressed) throw new CloudError('INVALID', 'the image is compressed');
        const length = Math.min(cluster, size - offset);
        if (entry & 1n) yield { offset, data: Buffer.alloc(length) };
        else if (entry & offsetBits) yield { offset, data: at(fd, Number(entry & offsetBits), length) };
      }
    }
  }
  return { size, clusters };
}

function at(fd: number, offset: number, length: number): Buffer {
  const data = Buffer.alloc(length);
  if (fs.readSync(fd, data, 0, length, offset) !== length) throw new CloudError('INVALID', 'the image is cut short');
  return data;
}

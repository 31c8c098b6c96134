import { createHash } from 'node:crypto';
import { ovfDescriptor, ovfManifest, qcow2Cluster, qcow2Layout } from '@lithodex/core';
import {
  imageBlock,
  ImageMap,
  storedMachine,
  tarEnd,
  tarHeader,
  tarPadding,
  zeroBlock,
  type StoredMachine,
  type PointStore,
} from '@lithodex/connectors';
import { EngineError, keyedHash, type TreeEntry } from '@lithodex/engine';

/** A stored disk as a QCOW2 image: how long it is, and its bytes. */
async function qcow2Of(store: PointStore, entry: TreeEntry): Promise<{ size: number; parts: () => AsyncGenerator<Uint8Array> }> {
  const map = await ImageMap.of(entry, store.trees, keyedHash(store.keys.nameKey, zeroBlock));
  if (!map || imageBlock !== qcow2Cluster) throw new EngineError('PATH_MISSING', 'no image of a disk');
  const used: number[] = [];
  for (let block = 0; block < map.blocks; block++) if (map.name(block)) used.push(block);
  const layout = qcow2Layout(entry.size, Uint32Array.from(used));
  async function* parts(): AsyncGenerator<Uint8Array> {
    yield* layout.front();
    for (const block of used) {
      const data = await store.reader.read(map!.name(block)!);
      yield data;
      if (data.length < qcow2Cluster) yield zeroBlock.subarray(data.length);
    }
  }
  return { size: layout.fileSize, parts };
}

/** The bytes of one disk as a QCOW2 image. */
export async function* qcow2Parts(store: PointStore, entry: TreeEntry): AsyncGenerator<Uint8Array> {
  yield* (await qcow2Of(store, entry)).parts();
}

/** A machine as an OVF package in one tar archive: its descriptor, its disks, and the sums of all of them at the end. */
export async function* ovaParts(store: PointStore, top: TreeEntry, onDisk: (entry: TreeEntry) => void): AsyncGenerator<Uint8Array> {
  const machine = await storedMachine(store, top);
  const base = machine.name.replace(/[^\w.-]/g, '_') || 'machine';
  const disks = await Promise.all(
    machine.disks
      .filter((d) => d.file !== '')
      .map(async (d) => {
        const entry = await store.trees.find(top, d.file);
        const file = `${base}-${entry.name.replace(/[^\w.-]/g, '_').replace(/\.raw$/, '')}.qcow2`;
        return { entry, file, ...(await qcow2Of(store, entry)) };
      }),
  );
  const sums: { file: string; sha256: string }[] = [];
  const descriptor = Buffer.from(descriptorOf(machine, disks));
  async function* member(
    file: string,
    size: number,
    content: AsyncIterable<Uint8Array> | Iterable<Uint8Array>,
  ): AsyncGenerator<Uint8Array> {
    const sum = createHash('sha256');
    yield tarHeader(file, { ...top, kind: 'file', mode: 0o644, size }, { owner: '', group: '' })!;
    for await (const part of content) {
      sum.update(part);
      yield part;
    }
    yield tarPadding(size);
    sums.push({ file, sha256: sum.digest('hex') });
  }
  yield* member(`${base}.ovf`, descriptor.length, [descriptor]);
  for (const disk of disks) {
    yield* member(disk.file, disk.size, disk.parts());
    onDisk(disk.entry);
  }
  const manifest = Buffer.from(ovfManifest(sums));
  yield* member(`${base}.mf`, manifest.length, [manifest]);
  yield tarEnd;
}

function descriptorOf(
  machine: StoredMachine,
  disks: readonly { readonly entry: TreeEntry; readonly file: string; readonly size: number }[],
): string {
  return ovfDescriptor({ ...machine, disks: disks.map(({ entry, file, size }) => ({ file, fileSize: size, size: entry.size })) });
}

import fs from 'node:fs';
import { ImageMap, imageBlock, type OpenPoint } from '@lithodex/connectors';
import { writeFolder, type Root, type Store, type TreeEntry } from '@lithodex/engine';
import { visitData } from '@lithodex/standins';

const plain = { mode: 0o600, uid: 0, gid: 0, mtimeNs: 0n, ctimeNs: 0n, inode: 0, size: 0 };

/** Stores these disks (files, or bytes) as a capture of a machine would, holes left out, and opens the point. */
export async function pointOfDisks(store: Store, taskId: string, disks: Readonly<Record<string, string | Buffer>>): Promise<OpenPoint> {
  const writer = store.writer();
  const entries: TreeEntry[] = [];
  const put = async (map: ImageMap, block: number, data: Buffer) => {
    if (data.some((byte) => byte !== 0)) map.set(block, writer.put(data));
    if (writer.full) await writer.drain();
  };
  for (const [label, disk] of Object.entries(disks)) {
    const size = typeof disk === 'string' ? fs.statSync(disk).size : disk.length;
    const map = new ImageMap(size);
    if (typeof disk === 'string') {
      const fd = fs.openSync(disk, 'r');
      const blocks = new Set<number>();
      visitData(fd, (from, to) => {
        for (let block = Math.floor(from / imageBlock); block * imageBlock < to; block++) blocks.add(block);
      });
      for (const block of blocks) {
        const data = Buffer.alloc(map.lengthOf(block));
        fs.readSync(fd, data, 0, data.length, block * imageBlock);
        await put(map, block, data);
      }
      fs.closeSync(fd);
    } else
      for (let block = 0; block < map.blocks; block++) await put(map, block, disk.subarray(block * imageBlock, (block + 1) * imageBlock));
    entries.push({ ...plain, name: `${label}.raw`, kind: 'file', size, ...map.stored((d) => writer.put(d)) });
  }
  const folder = (name: string, own: TreeEntry[]): TreeEntry => ({
    ...plain,
    name,
    kind: 'folder',
    folder: writeFolder((d) => writer.put(d), own),
  });
  const top = folder('', [
    folder(
      'disks',
      entries.sort((a, b) => (a.name < b.name ? -1 : 1)),
    ),
  ]);
  await writer.finish();
  await store.index.refresh();
  const facts = { disks: entries.map((e) => ({ file: `disks/${e.name}` })) };
  const root = { taskId, content: { kind: 'machine', version: 1, facts }, workload: { path: '' } } as unknown as Root;
  return { kept: store, store, root, top };
}

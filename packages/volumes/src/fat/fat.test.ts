import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { memoryBlocks } from '../blocks';
import { emptyFile, fileBlocks, run, sumOf, temporaryFolder, walk } from '../testing/images';
import { FatFileSystem, fatSigns } from './fat';

let base: string;
const written = new Map<string, Buffer>();
beforeAll(() => {
  base = temporaryFolder('fat');
  const put = (path: string, content: Buffer) => {
    fs.mkdirSync(`${base}/tree/${path.split('/').slice(0, -1).join('/')}`, { recursive: true });
    fs.writeFileSync(`${base}/tree/${path}`, content);
    written.set(Buffer.from(path).toString('latin1'), content);
  };
  put('UPPER.TXT', Buffer.from('short name'));
  put('lower.txt', Buffer.from('short name in small letters'));
  put('a name that is longer than thirteen characters, and then some.text', randomBytes(70_000));
  put('Ärger mit Umlauten/ß.txt', Buffer.from('umlauts'));
  put('empty.txt', Buffer.alloc(0));
  put('deep/er/and/deep/er/still/bottom.bin', randomBytes(300_001));
  for (let n = 0; n < 300; n++) put(`many/file number ${n} of many.txt`, Buffer.from(`file ${n}`));
});
afterAll(() => fs.rmSync(base, { recursive: true, force: true }));

describe('FAT', () => {
  it.each([
    ['FAT12', 4, ['-F', '12']],
    ['FAT16', 20, ['-F', '16']],
    ['FAT32', 70, ['-F', '32', '-s', '1']],
  ] as const)('reads what was copied into a %s', async (type, size, options) => {
    const image = `${base}/${type}.img`;
    emptyFile(image, size << 20);
    run('mkfs.vfat', [...options, '-n', 'QUAY', image]);
    run('sh', ['-c', `cd '${base}/tree' && MTOOLS_SKIP_CHECK=1 LC_ALL=C.UTF-8 mcopy -s -Q -m -i '${image}' -- * ::/`]);
    const disk = fileBlocks(image);
    expect(fatSigns(await disk.read(0, 512))).toMatchObject({ type, label: 'QUAY' });
    const found = await walk(await FatFileSystem.open(disk));
    const files = [...found].filter(([, { item }]) => item.kind === 'file');
    expect(files.map(([path]) => path).sort()).toEqual([...written.keys()].sort());
    for (const [path, { sum, item }] of files)
      expect([path, item.size, sum]).toEqual([path, written.get(path)!.length, sumOf(written.get(path)!)]);
    disk.close();
  });

  it('ends at a chain of clusters that leads back to itself', async () => {
    const image = fs.readFileSync(`${base}/FAT16.img`);
    const table = image.readUInt16LE(14) * image.readUInt16LE(11);
    for (let entry = 2; entry < 4000; entry++) image.writeUInt16LE(entry, table + entry * 2);
    const system = await FatFileSystem.open(memoryBlocks(image));
    await expect(walk(system)).rejects.toThrow(/no end/);
  });
});

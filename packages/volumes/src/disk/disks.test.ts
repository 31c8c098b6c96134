import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { memoryBlocks } from '../blocks';
import { differences, emptyFile, fileBlocks, fixture, run, temporaryFolder, walk } from '../testing/images';
import { volumesOf, type Volume } from './disks';
import { readLvmText } from './lvm-text';

let base: string;
beforeAll(() => void (base = temporaryFolder('disks')));
afterAll(() => fs.rmSync(base, { recursive: true, force: true }));

const mib = 1 << 20;
async function volumesIn(table: string, fill: (image: string) => void = () => undefined): Promise<Volume[]> {
  const image = `${base}/disk.img`;
  emptyFile(image, 64 * mib);
  run('sfdisk', ['--quiet', '--no-reread', '--no-tell-kernel', image], table);
  fill(image);
  const disk = fileBlocks(image);
  const volumes = (await volumesOf(new Map([['disk', disk]]))).get('disk')!;
  for (const volume of volumes) await volume.open?.();
  disk.close();
  return volumes;
}
const told = (volumes: readonly Volume[]) => volumes.map((v) => [v.name, v.type, v.label, v.size / mib, v.why]);

describe('disks', () => {
  it('names the partitions of a GPT and what they hold', async () => {
    const volumes = await volumesIn(
      'label: gpt\nstart=2048, size=20480, type=uefi, name=EFI\nsize=40960\nsize=20480, type=swap\nsize=8192\n',
      (image) => {
        run('mkfs.vfat', ['--offset', '2048', '-F', '12', '-n', 'EFI', image, String(10 * 1024)]);
        run('mkfs.ext4', ['-q', '-F', '-L', 'root', '-E', `offset=${11 * mib}`, image, '20480k']);
        const swap = fs.openSync(image, 'r+');
        fs.writeSync(swap, 'SWAPSPACE2', 31 * mib + 4086);
        fs.writeSync(swap, 'LUKS\xba\xbe', 41 * mib, 'latin1');
        fs.closeSync(swap);
      },
    );
    expect(told(volumes)).toEqual([
      ['p1', 'FAT12', 'EFI', 10, ''],
      ['p2', 'ext4', 'root', 20, ''],
      ['p3', 'swap space', '', 10, 'what is in it is not read: swap space'],
      ['p4', 'encrypted volume (LUKS)', '', 4, 'what is in it is not read: encrypted volume (LUKS)'],
    ]);
  });

  it('finds the second table of a GPT whose first is damaged', async () => {
    const volumes = await volumesIn('label: gpt\nstart=2048, size=20480\n', (image) => {
      const disk = fs.openSync(image, 'r+');
      fs.writeSync(disk, Buffer.alloc(512), 0, 512, 512);
      fs.closeSync(disk);
    });
    expect(told(volumes)).toEqual([['p1', 'nothing', '', 10, 'nothing was ever written here']]);
  });

  it('names primary and logical partitions of an MBR', async () => {
    const table = 'label: dos\nstart=2048, size=20480, type=83\nsize=80000, type=5\nstart=24576, size=8192\nstart=36864, size=16384\n';
    const volumes = await volumesIn(table, (image) => {
      run('mkfs.ext4', ['-q', '-F', '-L', 'second', '-E', `offset=${36864 * 512}`, image, '8192k']);
    });
    expect(told(volumes).map(([name, type, label]) => [name, type, label])).toEqual([
      ['p1', 'nothing', ''],
      ['p5', 'nothing', ''],
      ['p6', 'ext4', 'second'],
    ]);
  });

  it('opens a disk that has no table', async () => {
    const volumes = (await volumesOf(new Map([['ntfs', fixture('ntfs')]]))).get('ntfs')!;
    expect(volumes.map((v) => [v.name, v.type, v.label])).toEqual([['volume', 'NTFS', 'Quay']]);
  });

  it('puts volumes of LVM together that lie on two disks, in pieces and in stripes', async () => {
    const disks = new Map([
      ['a', fixture('lvm-a')],
      ['b', fixture('lvm-b')],
    ]);
    const volumes = await volumesOf(disks);
    expect(volumes.get('b')).toEqual([]);
    expect(told(volumes.get('a')!)).toEqual([
      ['harbour-root', 'ext4', 'root', 12, ''],
      ['harbour-between', 'nothing', '', 3, 'nothing was ever written here'],
      ['harbour-striped', 'ext4', 'striped', 12, ''],
    ]);
    for (const volume of volumes.get('a')!.filter((v) => v.open)) {
      const system = await volume.open!();
      expect(await differences(system, await walk(system))).toEqual([]);
    }
  });

  it('says which volume of LVM lacks a disk, and opens the others', async () => {
    const volumes = (await volumesOf(new Map([['a', fixture('lvm-a')]]))).get('a')!;
    expect(volumes.map((v) => [v.name, v.why])).toEqual([
      ['harbour-root', ''],
      ['harbour-between', 'nothing was ever written here'],
      ['harbour-striped', 'a disk that it lies on is not in this point'],
    ]);
  });

  it('says of noise that nobody knows it, and of an empty disk that it is', async () => {
    const noise = Buffer.alloc(mib, 'neither this nor that ');
    const volumes = await volumesOf(
      new Map([
        ['noise', memoryBlocks(noise)],
        ['empty', memoryBlocks(Buffer.alloc(mib))],
        ['none', memoryBlocks(Buffer.alloc(0))],
      ]),
    );
    expect([...volumes.values()].map((own) => own.map((v) => v.type))).toEqual([['unknown'], ['nothing'], []]);
  });
});

describe('descriptions of LVM', () => {
  it('reads sections, numbers, texts and lists', () => {
    expect(readLvmText('a {\n b = 1 # one\n c = ["x", 2]\n d { e = "q\\"uote" }\n}\nf = []')).toEqual({
      a: { b: 1, c: ['x', 2], d: { e: 'q"uote' } },
      f: [],
    });
  });

  it.each(['a {', 'a = [1, 2', 'a b', 'a = x', 'a { '.repeat(30)])('refuses %s', (text) => {
    expect(() => readLvmText(text)).toThrow(/damaged/);
  });
});

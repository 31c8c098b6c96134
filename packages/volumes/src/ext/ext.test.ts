import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { posix } from '@lithodex/engine';
import { makeNastyTree } from '../../../../tests/support/nasty-tree';
import { emptyFile, fileBlocks, fixture, run, sumOf, temporaryFolder, walk } from '../testing/images';
import { ExtFileSystem } from './ext';

const second = 1_000_000_000n;
let base: string;
beforeAll(() => {
  base = temporaryFolder('ext');
  makeNastyTree(`${base}/tree`, 1 << 25);
  for (let n = 0; n < 1200; n++) fs.writeFileSync(`${base}/tree/deep/many-${n}-${'y'.repeat(n % 90)}`, `file ${n}`);
});
afterAll(() => fs.rmSync(base, { recursive: true, force: true }));

const formats: readonly (readonly [string, string[]])[] = [
  ['ext4 with blocks of 4 KiB', ['-b', '4096']],
  ['ext4 with blocks of 1 KiB and small inodes', ['-b', '1024', '-I', '128']],
  ['ext4 with content in inodes', ['-b', '4096', '-O', 'inline_data', '-I', '512']],
  ['ext4 whose group descriptors are spread', ['-b', '1024', '-O', 'meta_bg,^resize_inode']],
  ['ext3', ['-t', 'ext3', '-b', '1024']],
  ['ext2', ['-t', 'ext2', '-b', '2048']],
];

describe('ext', () => {
  it.each(formats)('reads everything of an awkward tree in %s', async (name, options) => {
    const image = `${base}/${name.replace(/\W/g, '-')}.img`;
    emptyFile(image, 160 << 20);
    run('mkfs.ext4', ['-q', '-F', ...options, '-d', `${base}/tree`, image]);
    const disk = fileBlocks(image);
    const found = await walk(await ExtFileSystem.open(disk));
    const own = [...found.keys()].filter((p) => p !== 'lost+found');
    expect(own.length).toBe(Number(run('sh', ['-c', `find '${base}/tree' -mindepth 1 -print0 | tr -cd '\\0' | wc -c`])));
    for (const path of own) {
      const at = Buffer.from(`${base}/tree/${path}`, 'latin1');
      const real = fs.lstatSync(at, { bigint: true });
      const { item, linkTarget, sum } = found.get(path)!;
      expect([path, item.mode, item.uid, item.gid, item.linked]).toEqual([
        path,
        Number(real.mode) & 0o7777,
        Number(real.uid),
        Number(real.gid),
        !real.isDirectory() && real.nlink > 1n,
      ]);
      // what made the image keeps 32 bits of seconds
      const seconds = BigInt.asIntN(32, (real.mtimeNs - (((real.mtimeNs % second) + second) % second)) / second);
      expect([path, item.mtimeNs / second]).toEqual([path, seconds]);
      // what makes an image with content in inodes cuts a sparse file short
      if (real.isFile() && !(name.includes('in inodes') && path === 'sparse'))
        expect([path, item.size, sum]).toEqual([path, Number(real.size), sumOf(fs.readFileSync(at))]);
      if (real.isSymbolicLink()) expect(linkTarget).toBe(fs.readlinkSync(at, 'latin1'));
      if (real.isCharacterDevice()) expect(item.device).toBe(Number(real.rdev));
      expect(item.kind).toBe(
        real.isFile() ? 'file' : real.isDirectory() ? 'folder' : real.isSymbolicLink() ? 'link' : real.isFIFO() ? 'fifo' : 'char',
      );
    }
    const attributes = found.get('attributes')!.attributes;
    expect(attributes['user.berth']).toBe('00ff01');
    const acl = posix.readAttributes(Buffer.from(`${base}/tree/attributes`)).find(([n]) => n === 'system.posix_acl_access')?.[1];
    expect(attributes['system.posix_acl_access']).toBe(acl?.toString('hex'));
    disk.close();
  });

  it('reads a sparse file without its holes', async () => {
    const disk = fileBlocks(`${base}/ext4-with-blocks-of-4-KiB.img`);
    const system = await ExtFileSystem.open(disk);
    const top = await system.top();
    for await (const piece of system.list(top.key))
      for (const item of piece.filter((i) => i.name === 'sparse')) {
        const { ranges } = await system.detail(item);
        const held = ranges!.reduce((sum, [, length]) => sum + length, 0);
        expect(held).toBeLessThan(400_000);
      }
    disk.close();
  });

  it('sees what the journal holds as if it were in place', async () => {
    const disk = fixture('dirty-ext4');
    const found = await walk(await ExtFileSystem.open(disk));
    const expected = fs
      .readFileSync(new URL('../../fixtures/dirty-ext4.sums', import.meta.url), 'latin1')
      .trim()
      .split('\n');
    for (const line of expected) expect([line.slice(66), found.get(line.slice(66))?.sum]).toEqual([line.slice(66), line.slice(0, 64)]);
    expect(found.has('gone.txt')).toBe(false);
  });
});

import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { gunzipSync } from 'node:zlib';
import { DiskFolder, namesPerList, Store } from '@lithodex/engine';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { pointOfDisks } from '../../../../tests/support/machine-point';
import { describeTree, makeNastyTree, temporaryFolder } from '../../../../tests/support/nasty-tree';
import type { OpenPoint, RestoredItem } from '../connector';
import { HostLimits } from '../files/host-limits';
import { restoreFiles } from '../files/restore-files';
import { findItem, OpenedTrees } from '../find-item';
import { imageBlock } from '../machines/image-map';
import { imageBlocks } from './image-blocks';
import { closePools } from '../pools';

let base: string;
let store: Store;

beforeAll(async () => {
  base = temporaryFolder('inside');
  fs.mkdirSync(`${base}/store`);
  store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
});
afterEach(() => fs.rmSync(`${base}/back`, { recursive: true, force: true }));
afterAll(async () => {
  await closePools();
  fs.rmSync(base, { recursive: true, force: true });
});

const pointOf = (taskId: string, disks: Readonly<Record<string, Buffer>>) => pointOfDisks(store, taskId, disks);
const fixture = (name: string) => gunzipSync(fs.readFileSync(new URL(`../../../volumes/fixtures/${name}.img.gz`, import.meta.url)));

async function restore(
  point: OpenPoint,
  path: string,
  to: string,
  more: { rule?: 'leave' | 'beside'; trial?: boolean } = {},
): Promise<RestoredItem[]> {
  const items: RestoredItem[] = [];
  const opened = new OpenedTrees();
  await restoreFiles(
    {
      taskId: 'r1',
      trial: more.trial ?? false,
      edited: undefined,
      limits: HostLimits.none,
      phase: () => undefined,
      note: () => undefined,
      done: (item) => items.push(item),
      drain: () => undefined,
      moved: () => undefined,
      stopped: () => false,
    },
    [{ open: () => Promise.resolve(point), find: () => findItem(point, path, opened), path, to, base: `${base}/back` }],
    { kind: 'files', rule: more.rule ?? 'leave', stamp: '2026-11-30' },
  );
  return items;
}

/** How many files the large trees have; systems that need a mount are tried where one is possible and many are wanted. */
const manyFiles = Number(process.env['LITHODEX_FILES'] ?? 1500);
const canMount = process.env['LITHODEX_FILES'] !== undefined;
function fillMounted(image: string, tree: string, mount: string[], at = `${image}.mounted`): void {
  fs.mkdirSync(at);
  execFileSync(mount[0]!, [...mount.slice(1), image, at], { stdio: 'pipe' });
  execFileSync('cp', ['-a', `${tree}/.`, at], { stdio: 'pipe' });
  execFileSync('umount', [at], { stdio: 'pipe' });
}
const makeExt = (version: string) => (image: string, tree: string) =>
  void execFileSync(`mkfs.${version}`, ['-q', '-F', '-N', String(manyFiles * 2), '-d', tree, image], { stdio: 'pipe' });
/** A volume of a group that lies on its disk in two pieces, the later one first; the group is written by its own tools. */
function makeLvm(image: string, tree: string): void {
  const extentBytes = 4 << 20;
  const extents = Math.ceil(fs.statSync(image).size / extentBytes / 2) * 2;
  fs.truncateSync(image, (extents + 8) * extentBytes);
  const [volume, text] = [`${image}.volume`, `${image}.group`];
  const run = (program: string, ...args: string[]) => execFileSync(program, args, { encoding: 'utf8', stdio: ['ignore', 'pipe', 'pipe'] });
  const device = run('losetup', '--find', '--show', image).trim();
  try {
    run('pvcreate', '-qq', '--devices', device, device);
    run('vgcreate', '-qq', '--devices', device, 'harbour', device);
    run('vgcfgbackup', '-qq', '--devices', device, '-f', text, 'harbour');
    const half = extents / 2;
    const piece = (no: number, start: number, at: number) =>
      `segment${no} { start_extent = ${start} extent_count = ${half} type = "striped" stripe_count = 1 stripes = [ "pv0", ${at} ] }`;
    const many = `logical_volumes { many { id = "abcdef-abcd-abcd-abcd-abcd-abcd-abcdef" status = ["READ", "WRITE", "VISIBLE"] flags = [] segment_count = 2
      ${piece(1, 0, half)} ${piece(2, half, 0)} } }`;
    fs.writeFileSync(text, fs.readFileSync(text, 'utf8').replace('physical_volumes {', `${many}\nphysical_volumes {`));
    run('vgcfgrestore', '-qq', '--devices', device, '-f', text, 'harbour');
    const units = ['--noheadings', '--nosuffix', '--units', 'b', '--devices', device];
    const begin = Number(run('pvs', ...units, '-o', 'pe_start', device));
    fs.writeFileSync(volume, '');
    fs.truncateSync(volume, extents * extentBytes);
    makeExt('ext4')(volume, tree);
    for (const [from, to] of [
      [0, half],
      [half, 0],
    ] as const)
      run(
        'dd',
        ...[`if=${volume}`, `of=${image}`, `bs=${extentBytes}`, `skip=${from}`, `count=${half}`],
        ...[`seek=${begin + to * extentBytes}`, 'oflag=seek_bytes', 'conv=notrunc,sparse', 'status=none'],
      );
  } finally {
    run('losetup', '--detach', device);
    for (const file of [volume, text]) fs.rmSync(file, { force: true });
  }
}
const withManyFiles: [string, (image: string, tree: string) => void][] = [
  ['ext4', makeExt('ext4')],
  ...(canMount
    ? ([
        ['ext2', makeExt('ext2')],
        ['ext3', makeExt('ext3')],
        ['lvm', makeLvm],
        [
          'fat',
          (image, tree) => {
            execFileSync('mkfs.vfat', ['-F', '32', '-s', '8', image], { stdio: 'pipe' });
            const copied = `cd '${tree}' && MTOOLS_SKIP_CHECK=1 LC_ALL=C.UTF-8 mcopy -s -Q -m -i '${image}' -- * ::/`;
            execFileSync('sh', ['-c', copied], { stdio: 'pipe' });
          },
        ],
        [
          'exfat',
          (image, tree) => {
            execFileSync('mkfs.exfat', ['-c', '4096', image], { stdio: 'pipe' });
            const device = execFileSync('losetup', ['--find', '--show', image], { encoding: 'utf8' }).trim();
            fillMounted(device, tree, ['mount.exfat-fuse'], `${image}.mounted`);
            execFileSync('losetup', ['--detach', device]);
          },
        ],
        [
          'xfs',
          (image, tree) => {
            execFileSync('mkfs.xfs', ['-q', '-f', image], { stdio: 'pipe' });
            fillMounted(image, tree, ['mount', '-o', 'loop']);
          },
        ],
        [
          'ntfs',
          (image, tree) => {
            execFileSync('mkfs.ntfs', ['-q', '-F', '-f', image], { stdio: 'pipe' });
            fillMounted(image, tree, ['ntfs-3g']);
          },
        ],
      ] as [string, (image: string, tree: string) => void][])
    : []),
];

/** Systems that keep no owners, rights or links, and times more coarsely. */
const plainest = ['fat', 'exfat'];

/** A tree like that of a file server: deep, with long and odd names, links, holes, and many small files. */
function makeManyFiles(tree: string, files: number, anyBytes: boolean, plain: boolean): void {
  let random = 7;
  const next = (n: number) => {
    random = (Math.imul(random, 1664525) + 1013904223) >>> 0;
    return Math.floor((random / 2 ** 32) * n);
  };
  const odd = [
    'Größe',
    'ein sehr langer Name '.repeat(8),
    'a b',
    '漢字',
    '🌊',
    'x'.repeat(200),
    "quote's",
    '%41',
    '-rf',
    '#',
    '$HOME',
  ].filter(
    // what writes FAT here knows no characters beyond the first plane
    (name) => !plain || name !== '🌊',
  );
  const folders = [''];
  for (let n = 0; n < files; n++) {
    const folder = folders[next(folders.length)]!;
    const name = `${odd[next(odd.length)]!}-${n}`;
    const raw =
      anyBytes && n % 50 === 0
        ? Buffer.concat([Buffer.from(`${tree}/${folder}`), Buffer.from([0xff, 0xfe, 0x5c]), Buffer.from(String(n))])
        : Buffer.from(`${tree}/${folder}${name}`);
    if (n % 40 === 0) {
      const deeper = folder.length > 1500 ? `folder-${n}/` : `${folder}${name.slice(0, 60)}-${n}/`;
      fs.mkdirSync(`${tree}/${deeper}`, { recursive: true });
      folders.push(deeper);
    }
    if (n % 97 === 0 && anyBytes) fs.symlinkSync(`../${name}`, raw);
    else if (n % 211 === 0) {
      const fd = fs.openSync(raw, 'w');
      fs.writeSync(fd, `begin ${n}`, 0);
      fs.writeSync(fd, `end ${n}`, 3_000_000 + n);
      fs.closeSync(fd);
    } else fs.writeFileSync(raw, n % 500 === 0 ? Buffer.alloc(1_500_000, n) : `file ${n}\n`.repeat(next(60)));
  }
}

describe('files inside disks', () => {
  it('come back from a volume of a disk with a table, an awkward tree identical', async () => {
    makeNastyTree(`${base}/tree`, 1 << 25);
    for (const tooFine of ['after-2038', 'before-1970']) fs.rmSync(`${base}/tree/${tooFine}`);
    const image = `${base}/disk.img`;
    fs.writeFileSync(image, '');
    fs.truncateSync(image, 96 << 20);
    execFileSync('sfdisk', ['--quiet', '--no-reread', '--no-tell-kernel', image], {
      input: 'label: gpt\nstart=2048, size=180000\n',
      stdio: 'pipe',
    });
    execFileSync('mkfs.ext4', ['-q', '-F', '-E', `offset=${1 << 20}`, '-d', `${base}/tree`, image, '90000k'], { stdio: 'pipe' });
    const point = await pointOf('p1', { system: fs.readFileSync(image) });

    const items = await restore(point, 'disks/system.raw/p1', '');
    expect(items.filter((i) => i.action === 'failed')).toEqual([]);
    fs.rmdirSync(`${base}/back/lost+found`);
    // what makes such an image keeps whole seconds; those of the top folder change with what is beside
    const described = (folder: string) =>
      describeTree(folder)
        .replace(/^(\|d\|.*)$/m, '')
        .replace(/(\d{9,})\.\d{10}/g, '$1');
    expect(described(`${base}/back`)).toBe(described(`${base}/tree`));
    expect(fs.statSync(`${base}/back/sparse`).blocks * 512).toBeLessThan(2 << 20);
  });

  it.each(withManyFiles)(
    'come back from %s with many odd files, each as it was written',
    async (system, make) => {
      const tree = `${base}/many-${system}`;
      makeManyFiles(tree, manyFiles, !plainest.includes(system) && system !== 'ntfs', plainest.includes(system));
      const image = `${base}/many-${system}.img`;
      fs.writeFileSync(image, '');
      fs.truncateSync(image, Math.max(512 << 20, manyFiles * 40_000));
      make(image, tree);
      const items = await restore(
        await pointOfDisks(store, `many-${system}`, { system: image }),
        `disks/system.raw/${system === 'lvm' ? 'harbour-many' : 'volume'}`,
        '',
      );
      expect(items.filter((i) => i.action === 'failed')).toEqual([]);
      fs.rmSync(`${base}/back/lost+found`, { recursive: true, force: true });
      // what makes images keeps whole seconds, and NTFS has no owners here
      const described = (folder: string) =>
        describeTree(folder)
          .replace(/^(\|d\|.*)$/m, '')
          .replace(/(\d{9,})\.\d{10}/g, '$1')
          .replace(/^(.*\|[a-z]\|)(\d+\|\d+\|\d+\|)/gm, system === 'ntfs' ? '$1' : '$1$2')
          .replace(/^(.*\|[a-z]\|)[^|\n]*\|.*$/gm, plainest.includes(system) ? '$1' : '$&');
      expect(described(`${base}/back`)).toBe(described(tree));
      fs.rmSync(tree, { recursive: true });
      fs.rmSync(image);
    },
    600_000,
  );

  it('come back alone, and are known when they are there already', async () => {
    const point = await pointOf('p2', { data: fixture('ntfs') });
    const path = 'disks/data.raw/volume/papers/long.log';
    expect(await restore(point, path, 'long.log')).toMatchObject([{ path: 'long.log', action: 'write' }]);
    expect(fs.readFileSync(`${base}/back/long.log`, 'utf8').startsWith('moored at the north quay\n')).toBe(true);
    expect(await restore(point, path, 'long.log', { rule: 'beside' })).toMatchObject([{ action: 'same' }]);
    fs.appendFileSync(`${base}/back/long.log`, 'changed');
    expect(await restore(point, path, 'long.log', { rule: 'beside' })).toMatchObject([{ action: 'beside' }]);
    expect(await restore(point, path, 'other.log', { trial: true })).toMatchObject([{ action: 'write' }]);
    expect(fs.existsSync(`${base}/back/other.log`)).toBe(false);
  });

  it('come back from volumes that lie on two disks', async () => {
    const point = await pointOf('p3', { a: fixture('lvm-a'), b: fixture('lvm-b') });
    await restore(point, 'disks/a.raw/harbour-striped', 'striped');
    const check = execFileSync('sha256sum', ['--quiet', '-c', 'SUMS'], { cwd: `${base}/back/striped`, encoding: 'utf8' });
    expect(check).toBe('');
  });

  it('are not there where the path leads into nothing', async () => {
    const point = await pointOf('p4', { data: fixture('ntfs') });
    for (const path of [
      'disks/data.raw/volume/no',
      'disks/data.raw/p9',
      'disks/other.raw/volume',
      'disks/data.raw/volume/papers/long.log/x',
      'disks/data.raw/../data.raw/volume',
    ])
      await expect(findItem(point, path)).rejects.toMatchObject({ code: 'PATH_MISSING' });
  });

  it('fail with their place told where the store is damaged, and nothing is made up', async () => {
    const point = await pointOf('p5', { data: fixture('ntfs') });
    const { content } = await store.trees.find(point.top, 'disks/data.raw');
    const { names } = content as { names: Buffer };
    const missing = new Set(
      Array.from({ length: names.length / 32 }, (_, i) => names.subarray(i * 32, i * 32 + 32).toString('hex')).slice(40),
    );
    const read = store.reader.read.bind(store.reader);
    store.reader.read = (name) => (missing.has(name.toString('hex')) ? Promise.reject(new Error('lost')) : read(name));
    try {
      const items = await restore(point, 'disks/data.raw/volume/papers', 'papers').catch((error: unknown) => String(error));
      const failed = typeof items === 'string' || items.some((i) => i.action === 'failed' && i.remark.includes('lost'));
      expect(failed).toBe(true);
    } finally {
      store.reader.read = read;
    }
  });

  it('are listed without what can not be read being hidden', async () => {
    const disk = fixture('ntfs');
    const noise = Buffer.alloc(3 << 20, 'nobody knows ');
    const point = await pointOf('p6', { data: disk, noise });
    const opened = new OpenedTrees();
    const unknown = (await opened.open(point, 'disks/noise.raw'))!;
    expect(await unknown.tree.rows(unknown.tree.top)).toMatchObject([
      { item: { name: 'volume', unread: 'nobody knows what is in it' }, about: 'unknown' },
    ]);
    const known = (await opened.open(point, 'disks/data.raw/volume/papers'))!;
    expect(known.rest).toBe('volume/papers');
    const papers = await known.tree.trees.find(known.tree.top, known.rest);
    expect((await known.tree.rows(papers)).map((r) => r.item.name)).toContain('random.bin:note');
    expect((await opened.open(point, 'disks/data.raw/volume'))!.tree).toBe(known.tree);
  });
});

describe('a stored disk', () => {
  it('gives any stretch of it as it was, holes and long lists of names included', async () => {
    // more blocks than one list names, most of them holes
    const size = (namesPerList + 700) * imageBlock + 4096;
    const image = `${base}/long.img`;
    fs.writeFileSync(image, '');
    fs.truncateSync(image, size);
    const fd = fs.openSync(image, 'r+');
    const places = [0, 70_000, imageBlock * 300, imageBlock * 301 + 5, imageBlock * (namesPerList + 10), size - 5000];
    for (const place of places) fs.writeSync(fd, randomBytes(3000), 0, 3000, place);
    const point = await pointOfDisks(store, 'p7', { long: image });
    const disk = imageBlocks(await store.trees.find(point.top, 'disks/long.raw'), store.trees, store.reader)!;
    for (const at of [
      0,
      1,
      65_535,
      69_999,
      imageBlock * 299 + 100,
      imageBlock * 5000,
      imageBlock * (namesPerList + 9) + 60_000,
      size - 200_000,
    ]) {
      const length = Math.min(200_000, size - at);
      const expected = Buffer.alloc(length);
      fs.readSync(fd, expected, 0, length, at);
      expect((await disk.read(at, length)).equals(expected)).toBe(true);
    }
    const stretches = disk.stretches!(0, size);
    expect(stretches.reduce((sum, s) => sum + s.length, 0)).toBe(size);
    expect(stretches.filter((s) => !s.hole).reduce((sum, s) => sum + s.length, 0)).toBeLessThan(imageBlock * 40);
    await expect(disk.read(size - 10, 11)).rejects.toThrow();
    fs.closeSync(fd);
  });

  it('finds blocks whose names lie in list after list', async () => {
    const dense = Buffer.alloc(imageBlock * 600);
    for (let block = 0; block < 600; block++) dense.writeUInt32LE(block + 1, block * imageBlock);
    const point = await pointOfDisks(store, 'p8', { dense });
    const disk = imageBlocks(await store.trees.find(point.top, 'disks/dense.raw'), store.trees, store.reader)!;
    for (const block of [0, 255, 256, 257, 599]) expect((await disk.read(block * imageBlock, 4)).readUInt32LE(0)).toBe(block + 1);
  });
});

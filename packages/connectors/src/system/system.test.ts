import { spawnSync } from 'node:child_process';
import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { leastSize } from '@lithodex/core';
import { afterAll, describe, expect, it } from 'vitest';
import { readBootEntries } from './boot-entries';
import { Hardware, hardwareOfHost } from './hardware';
import { readDisks, readMounts } from './read-disks';

const folder = fs.mkdtempSync(path.join(os.tmpdir(), 'lithodex-system-'));
afterAll(() => {
  fs.rmSync(folder, { recursive: true });
});

const block = (kname: string, type: string, more: object = {}) => ({
  kname,
  type,
  size: 1e9,
  'log-sec': 512,
  mountpoints: [null],
  ...more,
});
const read = (blockdevices: object[], mounts = '', taken = () => true) =>
  readDisks(JSON.stringify({ blockdevices }), readMounts(mounts), taken);

describe('disks and volumes', () => {
  it('of logical volumes are told with all disks they lie on, what they are made of is seen through', () => {
    const root = block('dm-0', 'lvm', { fstype: 'ext4', mountpoints: ['/'], fsused: '400' });
    const { disks, volumes } = read(
      [
        block('sda', 'disk', {
          pttype: 'dos',
          children: [block('sda1', 'part', { start: 2048, fstype: 'LVM2_member', children: [root] })],
        }),
        block('sdb', 'disk', { children: [root] }),
        block('zram0', 'disk'),
        block('sr0', 'rom'),
        block('loop0', 'loop', { fstype: 'squashfs', mountpoints: ['/snap'] }),
      ],
      '/dev/dm-0 / ext4 rw,noatime 0 0',
    );
    expect(disks.map((d) => [d.name, d.table, d.partitions.map((p) => p.start)])).toEqual([
      ['sda', 'mbr', [1 << 20]],
      ['sdb', 'none', []],
    ]);
    expect(volumes).toMatchObject([
      { device: 'dm-0', layer: 'logical', on: ['sda1', 'sdb'], used: 400, options: 'rw,noatime', taken: true },
    ]);
  });

  it('say RAID, encryption and swap, and the shortest of several places something is mounted at', () => {
    const { volumes } = read([
      block('sda', 'disk', {
        children: [
          block('sda1', 'part', {
            fstype: 'linux_raid_member',
            children: [block('md0', 'raid1', { fstype: 'xfs', mountpoints: ['/srv'] })],
          }),
          block('sda2', 'part', {
            fstype: 'crypto_LUKS',
            children: [block('dm-1', 'crypt', { fstype: 'ext4', mountpoints: ['/var/lib/x', '/x'] })],
          }),
          block('sda3', 'part', { fstype: 'swap', mountpoints: ['[SWAP]'] }),
        ],
      }),
    ]);
    expect(volumes.map((v) => [v.device, v.layer, v.mount, v.taken])).toEqual([
      ['md0', 'raid', '/srv', true],
      ['dm-1', 'sealed', '/x', true],
      ['sda3', 'partition', '', false],
    ]);
  });

  it('are refused where it is no answer of that program', () => {
    for (const text of ['', '[]', '{"blockdevices":[{"kname":7}]}', '{"blockdevices":"x"}'])
      expect(() => readDisks(text, [], () => true)).toThrow();
  });

  it('know blanks in the names of what is mounted', () => {
    expect(readMounts('/dev/sda1 /mnt/two\\040words ext4 rw 0 0\n')).toEqual([
      { device: '/dev/sda1', mount: '/mnt/two words', fileSystem: 'ext4', options: 'rw' },
    ]);
  });
});

describe('entries of the firmware', () => {
  const wide = (text: string) => Buffer.from(`${text}\0`, 'utf16le');
  const variable = (name: string, content: Buffer) => {
    fs.writeFileSync(`${folder}/${name}-8be4df61-93ca-11d2-aa0d-00e098032b8c`, Buffer.concat([Buffer.from([7, 0, 0, 0]), content]));
  };
  const node = (type: number, sub: number, data: Buffer) =>
    Buffer.concat([Buffer.from([type, sub, (data.length + 4) & 255, (data.length + 4) >> 8]), data]);
  const option = (label: string, devicePath: Buffer) => {
    const head = Buffer.alloc(6);
    head.writeUInt32LE(1, 0);
    head.writeUInt16LE(devicePath.length, 4);
    return Buffer.concat([head, wide(label), devicePath, Buffer.from('more of its own')]);
  };

  it('come in the order they are started in, with the file each starts', () => {
    const end = node(0x7f, 0xff, Buffer.alloc(0));
    const order = Buffer.alloc(8);
    [10, 1, 2, 3].forEach((n, i) => order.writeUInt16LE(n, 2 * i));
    variable('BootOrder', order);
    variable(
      'Boot000A',
      option('Harbour Linux', Buffer.concat([node(4, 1, Buffer.alloc(38)), node(4, 4, wide('\\EFI\\BOOT\\BOOTX64.EFI')), end])),
    );
    variable('Boot0001', option('Network', end));
    variable('Boot0002', Buffer.from([1, 2, 3]));
    expect(readBootEntries(folder)).toEqual([
      { label: 'Harbour Linux', first: true, file: '\\EFI\\BOOT\\BOOTX64.EFI' },
      { label: 'Network', first: false, file: '' },
    ]);
  });

  it('are none where there are none, and lead nowhere where a path is broken', () => {
    expect(readBootEntries(`${folder}/none`)).toEqual([]);
    variable('Boot0001', option('Broken', Buffer.from([4, 4, 200, 0, 65])));
    expect(readBootEntries(folder)[1]).toEqual({ label: 'Broken', first: false, file: '' });
  });
});

describe('the hardware of this host', () => {
  it('is told, and what it says is read', async () => {
    const hardware = Hardware.parse(await hardwareOfHost());
    expect(hardware.memory).toBeGreaterThan(0);
    const { volumes } = readDisks(hardware.blocks, readMounts(hardware.mounts), () => true);
    expect(Array.isArray(volumes)).toBe(true);
  });
});

describe('a file system of the least size', () => {
  it.each([
    [3, 40],
    [12, 1],
    [560, 2000],
  ])('takes %i MB in files of %i KB', (megabytes, kilobytes) => {
    const tree = `${folder}/tree-${megabytes}`;
    fs.mkdirSync(tree);
    const data = Buffer.alloc(kilobytes * 1000, 'x');
    let used = 0;
    for (let i = 0; used < megabytes * 1e6; i++) {
      if (i % 1000 === 0) fs.mkdirSync(`${tree}/${i / 1000}`);
      fs.writeFileSync(`${tree}/${Math.floor(i / 1000)}/${i}`, data);
      used += Math.ceil(data.length / 4096) * 4096;
    }
    const image = `${folder}/${megabytes}.img`;
    fs.writeFileSync(image, '');
    fs.truncateSync(image, leastSize(used).bytes);
    const made = spawnSync('mke2fs', ['-q', '-F', '-t', 'ext4', '-d', tree, image], { encoding: 'utf8' });
    expect(made.stderr).toBe('');
    expect(spawnSync('e2fsck', ['-fn', image]).status).toBe(0);
    fs.rmSync(tree, { recursive: true });
    fs.rmSync(image);
  });
});

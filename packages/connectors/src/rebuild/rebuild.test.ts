import { createHash } from 'node:crypto';
import { spawnSync } from 'node:child_process';
import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { checkLayout, leastSize, proposeLayout, type NewDisk } from '@lithodex/core';
import type { ServerSystem, ServerVolume } from '@lithodex/kinds';
import { volumesOf, type Blocks, type FileSystem, type VolumeItem } from '@lithodex/volumes';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { takeApart } from './staged-tree';
import { writeDisk } from './write-disks';

const mebibyte = 1 << 20;
const folder = fs.mkdtempSync(path.join(os.tmpdir(), 'lithodex-rebuild-'));
afterAll(() => {
  fs.rmSync(folder, { recursive: true });
});
const run = (program: string, ...args: string[]) => spawnSync(program, args, { encoding: 'utf8' });
const hash = (data: Buffer) => createHash('sha256').update(data).digest('hex');

const uuids = {
  root: '3f1c2a52-7a0e-4a4e-9a55-2f6c0f2c9d01',
  logs: '5a0d6b11-52a7-4f38-8c0b-1c8d7b5c7e02',
  swap: '77c1c1a0-9a8e-4a57-9c5e-6d0f6a1b2c03',
};
const volume = (device: string, mount: string, bytes: number, more: Partial<ServerVolume> = {}): ServerVolume => ({
  device,
  layer: 'partition',
  on: [device],
  fileSystem: 'ext4',
  uuid: '',
  label: '',
  bytes,
  used: null,
  mount,
  options: '',
  taken: true,
  ...more,
});
const partition = (no: number, start: number, bytes: number, uuid: string, label = '') => ({ no, start, bytes, type: '', uuid, label });
const tableId = '0c0ffee0-1111-4222-8333-444455556666';

/** A server of which a few files are left, on disks larger than those it comes back to. */
function serverOf(used: { root: number; logs: number }): ServerSystem {
  const disk = { sector: 512, model: '', port: '', table: 'gpt' as const };
  return {
    host: 'quay-gate',
    machineId: '',
    system: '',
    firmware: 'uefi',
    bootEntries: [],
    architecture: 'x86_64',
    processor: '',
    cores: 2,
    memory: 4e9,
    disks: [
      {
        ...disk,
        name: 'sda',
        bytes: 900 * mebibyte,
        serial: '7F21',
        tableId,
        partitions: [
          partition(1, mebibyte, 60 * mebibyte, 'aaaaaaaa-0000-4000-8000-000000000001', 'EFI "system"'),
          partition(2, 61 * mebibyte, 600 * mebibyte, 'aaaaaaaa-0000-4000-8000-000000000002', 'root'),
          partition(3, 661 * mebibyte, 64 * mebibyte, 'aaaaaaaa-0000-4000-8000-000000000003'),
        ],
      },
      {
        ...disk,
        name: 'sdb',
        bytes: 2000 * mebibyte,
        serial: '09AA',
        tableId: '',
        partitions: [partition(1, mebibyte, 1900 * mebibyte, '')],
      },
    ],
    volumes: [
      volume('sda1', '/boot/efi', 60 * mebibyte, { fileSystem: 'vfat', uuid: '1A2B-3C4D', label: 'EFI', used: 2 * mebibyte }),
      volume('sda2', '/', 600 * mebibyte, { uuid: uuids.root, label: 'system', used: used.root }),
      volume('sda3', '', 64 * mebibyte, { fileSystem: 'swap', uuid: uuids.swap, taken: false }),
      volume('sdb1', '/var/gate', 1900 * mebibyte, { uuid: uuids.logs, used: used.logs }),
    ],
    loader: 'GRUB',
    kernels: [{ version: '6.1.0', initramfs: true, modules: true }],
    cards: [],
    routes: [],
    nameServers: [],
    controllers: [],
    zone: '',
    packages: 0,
    unread: {},
  };
}

/** A tree as odd as those that people have. */
function oddTree(root: string): void {
  const put = (file: string, data: string | Buffer, mode = 0o644) => {
    fs.mkdirSync(path.dirname(`${root}/${file}`), { recursive: true });
    fs.writeFileSync(`${root}/${file}`, data);
    fs.chmodSync(`${root}/${file}`, mode);
  };
  put('etc/fstab', `UUID=${uuids.root} / ext4 defaults 0 1\n`);
  put('boot/efi/EFI/BOOT/BOOTX64.EFI', Buffer.alloc(300_000, 'loader '));
  put('boot/efi/EFI/Harbour Linux/long name of a file.cfg', 'set root\n');
  put('usr/bin/door', 'opens\n', 0o4755);
  put('var/gate/2026-11-30.log', 'barrier north opened\n');
  put('var/gate/deep/er/old.log', Buffer.alloc(5000, 7));
  for (let i = 0; i < 1500; i++) put(`srv/many/${i % 7}/file ${i}`, `number ${i}`);
  fs.writeFileSync(Buffer.concat([Buffer.from(`${root}/srv/any`), Buffer.from([0xff, 0xfe, 10])]), 'of any bytes');
  fs.symlinkSync('../usr/bin/door', `${root}/srv/link`);
  fs.linkSync(`${root}/usr/bin/door`, `${root}/usr/bin/gate`);
  fs.chownSync(`${root}/srv/many/1/file 1`, 1234, 5678);
  const sparse = fs.openSync(`${root}/srv/sparse`, 'w');
  fs.writeSync(sparse, 'end', 40 * mebibyte);
  fs.closeSync(sparse);
  run('mknod', `${root}/srv/pipe`, 'p');
  fs.chmodSync(`${root}/var/gate`, 0o2750);
  for (const name of ['etc/fstab', 'srv/many']) fs.utimesSync(`${root}/${name}`, 1_600_000_000, 1_600_000_000);
}

interface Told {
  readonly kind: string;
  readonly mode: number;
  readonly owner: string;
  readonly content: string;
  readonly mtime: bigint;
}

/** Everything below a folder, by path (byte string); what is mounted at `without` is left out. */
function told(root: string, without: readonly string[] = []): Map<string, Told> {
  const all = new Map<string, Told>();
  const visit = (below: string) => {
    for (const name of fs.readdirSync(Buffer.from(`${root}/${below}`, 'latin1'), { encoding: 'latin1' })) {
      const at = below ? `${below}/${name}` : name;
      const file = Buffer.from(`${root}/${at}`, 'latin1');
      const s = fs.lstatSync(file, { bigint: true });
      const kind = s.isDirectory() ? 'folder' : s.isSymbolicLink() ? 'link' : s.isFIFO() ? 'fifo' : 'file';
      const content = kind === 'file' ? hash(fs.readFileSync(file)) : kind === 'link' ? fs.readlinkSync(file, 'latin1') : '';
      all.set(at, { kind, mode: Number(s.mode & 0o7777n), owner: `${s.uid}:${s.gid}`, content, mtime: s.mtimeNs / 1_000_000_000n });
      if (kind === 'folder' && !without.includes(at)) visit(at);
    }
  };
  visit('');
  return all;
}

async function read(system: FileSystem): Promise<Map<string, Told>> {
  const all = new Map<string, Told>();
  const visit = async (folderItem: VolumeItem, below: string) => {
    for await (const piece of system.list(folderItem.key))
      for (const item of piece) {
        const at = below ? `${below}/${item.name}` : item.name;
        const { linkTarget } = await system.detail(item);
        const content = item.kind === 'file' ? hash(await system.read(item.key, 0, item.size)) : (linkTarget ?? '');
        all.set(at, { kind: item.kind, mode: item.mode, owner: `${item.uid}:${item.gid}`, content, mtime: item.mtimeNs / 1_000_000_000n });
        if (item.kind === 'folder') await visit(item, at);
      }
  };
  await visit(await system.top(), '');
  return all;
}

const blocksOf = (file: string): Blocks => {
  const fd = fs.openSync(file, 'r');
  return {
    size: fs.fstatSync(fd).size,
    read(offset, length) {
      const data = Buffer.alloc(length);
      fs.readSync(fd, data, 0, length, offset);
      return Promise.resolve(data);
    },
  };
};
/** A partition as a file of its own. */
function partitionFile(file: string, start: number, bytes: number): string {
  const own = `${file}.part`;
  const done = run('dd', `if=${file}`, `of=${own}`, 'bs=1M', `skip=${start / mebibyte}`, `count=${bytes / mebibyte}`, 'conv=sparse');
  if (done.status !== 0) throw new Error(done.stderr);
  return own;
}

describe('a server on other disks', () => {
  const tree = `${folder}/tree`;
  const before = { root: new Map<string, Told>(), logs: new Map<string, Told>() };
  const disks: NewDisk[] = [
    { id: 'A', bytes: 500 * mebibyte, serial: 'K3-88', first: true, holds: '' },
    { id: 'B', bytes: 160 * mebibyte, serial: 'K3-91', first: false, holds: '' },
  ];
  const machine = { firmware: 'uefi' as const, disks };
  const system = serverOf({ root: 50 * mebibyte, logs: mebibyte });
  const layout = proposeLayout(system, machine);

  beforeAll(async () => {
    oddTree(tree);
    before.root = told(tree, ['boot/efi', 'var/gate']);
    before.logs = told(`${tree}/var/gate`);
    fs.mkdirSync(`${folder}/beside`);
    const staged = takeApart(tree, `${folder}/beside`, system.volumes);
    for (const own of layout.disks) {
      const file = `${folder}/${own.disk}.img`;
      // an earlier attempt has left something
      fs.writeFileSync(file, Buffer.alloc(3 * mebibyte, 0x5a));
      fs.truncateSync(file, disks.find((d) => d.id === own.disk)!.bytes);
      await writeDisk({ system, layout: own, file, staged, asItself: true, phase: () => undefined });
    }
  }, 60_000);

  it('has a layout that nothing stands against but that a volume is smaller', () => {
    expect(checkLayout(system, machine, layout).map((c) => c.level)).not.toContain('stop');
    expect(layout.disks.map((d) => d.partitions.length)).toEqual([3, 1]);
  });

  it('has tables, file systems and swap that their own tools find clean', () => {
    for (const { disk, partitions } of layout.disks) {
      const file = `${folder}/${disk}.img`;
      expect(run('sfdisk', '-V', file)).toMatchObject({ status: 0 });
      for (const p of partitions) {
        const own = partitionFile(file, p.start, p.bytes);
        const { fileSystem } = system.volumes.find((v) => 'volume' in p.for && v.device === p.for.volume)!;
        if (fileSystem === 'ext4') expect(run('e2fsck', '-fn', own)).toMatchObject({ status: 0 });
        else if (fileSystem === 'vfat') expect(run('fsck.vfat', '-n', own)).toMatchObject({ status: 0 });
        else expect(run('blkid', '-p', '-o', 'export', own).stdout).toContain(`UUID=${uuids.swap}`);
        fs.rmSync(own);
      }
    }
  });

  it('has every file as it was: kinds, owners, modes, times, links, bytes', async () => {
    const found = await volumesOf(new Map(disks.map((d) => [d.id, blocksOf(`${folder}/${d.id}.img`)])));
    const open = async (disk: string, at: number) => read(await found.get(disk)!.filter((v) => v.open)[at]!.open!());
    const root = await open('A', 1);
    // what the kernel mounts over has its place, and the file system a folder of its own
    for (const name of ['dev', 'proc', 'run', 'sys', 'tmp', 'lost+found']) {
      expect(root.get(name)?.kind).toBe('folder');
      root.delete(name);
    }
    expect(new Map([...root].filter(([, t]) => t.kind !== 'folder'))).toEqual(
      new Map([...before.root].filter(([, t]) => t.kind !== 'folder')),
    );
    const folders = (all: Map<string, Told>) =>
      new Map([...all].filter(([, t]) => t.kind === 'folder').map(([at, { mode, owner }]) => [at, `${mode} ${owner}`]));
    expect(folders(root)).toEqual(folders(before.root));
    const logs = await open('B', 0);
    logs.delete('lost+found');
    expect(logs).toEqual(before.logs);
    const loads = await open('A', 0);
    expect(
      [...loads]
        .filter(([, t]) => t.kind === 'file')
        .map(([at]) => at)
        .sort(),
    ).toEqual(['EFI/BOOT/BOOTX64.EFI', 'EFI/Harbour Linux/long name of a file.cfg']);
    expect(loads.get('EFI/BOOT/BOOTX64.EFI')!.content).toBe(hash(Buffer.alloc(300_000, 'loader ')));
  });

  it('is called what it was, where it comes back as itself', () => {
    const table = JSON.parse(run('sfdisk', '--json', `${folder}/A.img`).stdout) as {
      partitiontable: { id: string; partitions: { uuid: string; name?: string; type: string }[] };
    };
    const { id, partitions } = table.partitiontable;
    expect(id.toLowerCase()).toBe(tableId);
    expect(partitions.map((p) => p.uuid.toLowerCase())).toEqual([1, 2, 3].map((n) => `aaaaaaaa-0000-4000-8000-00000000000${n}`));
    expect(partitions.map((p) => p.name)).toEqual(['EFI system', 'root', undefined]);
    const { start, bytes } = layout.disks[0]!.partitions[1]!;
    const own = partitionFile(`${folder}/A.img`, start, bytes);
    expect(run('blkid', '-p', '-o', 'export', own).stdout).toMatch(new RegExp(`LABEL=system[^]*UUID=${uuids.root}`));
  });

  it('is another one where a clone is wanted', async () => {
    const own = layout.disks[1]!;
    const file = `${folder}/clone.img`;
    fs.writeFileSync(file, '');
    fs.truncateSync(file, disks[1]!.bytes);
    await writeDisk({ system, layout: own, file, staged: new Map(), asItself: false, phase: () => undefined });
    const { start, bytes } = own.partitions[0]!;
    expect(run('blkid', '-p', '-o', 'export', partitionFile(file, start, bytes)).stdout).not.toContain(uuids.logs);
  });

  it('is refused where a program says no, with what it said', async () => {
    const small = `${folder}/small.img`;
    fs.writeFileSync(small, '');
    fs.truncateSync(small, 20 * mebibyte);
    const writing = {
      system,
      layout: layout.disks[0]!,
      file: small,
      staged: new Map<string, string>(),
      asItself: true,
      phase: () => undefined,
    };
    await expect(writeDisk(writing)).rejects.toMatchObject({ code: 'REBUILD_FAILED' });
    const strange = { ...system, volumes: system.volumes.map((v) => (v.mount === '/var/gate' ? { ...v, fileSystem: 'zfs' } : v)) };
    const file = `${folder}/strange.img`;
    fs.writeFileSync(file, '');
    fs.truncateSync(file, disks[1]!.bytes);
    await expect(writeDisk({ ...writing, system: strange, layout: layout.disks[1]!, file })).rejects.toThrow('can not be made anew');
  });

  it('takes its content at exactly the least size', async () => {
    const size = leastSize(30 * mebibyte);
    const content = `${folder}/content`;
    fs.mkdirSync(content);
    for (let i = 0; i < 30 * 64; i++) fs.writeFileSync(`${content}/${i}`, Buffer.alloc(16 << 10, i));
    const file = `${folder}/exact.img`;
    fs.writeFileSync(file, '');
    fs.truncateSync(file, size.bytes + 2 * mebibyte);
    const exact = {
      disk: 'X',
      table: 'gpt' as const,
      partitions: [{ no: 1, start: mebibyte, bytes: size.bytes, for: { volume: 'sdb1' } }],
    };
    await writeDisk({ system, layout: exact, file, staged: new Map([['sdb1', content]]), asItself: true, phase: () => undefined });
    expect(run('e2fsck', '-fn', partitionFile(file, mebibyte, size.bytes))).toMatchObject({ status: 0 });
  });
});

describe('a tree that is taken apart', () => {
  it('never follows a link that has the place of a mount', () => {
    const root = `${folder}/linked`;
    const away = `${folder}/away`;
    fs.mkdirSync(root);
    fs.mkdirSync(`${away}/gate`, { recursive: true });
    fs.symlinkSync(away, `${root}/var`);
    const volumes = [volume('sda2', '/', 1), volume('sdb1', '/var/gate', 1)];
    expect(() => takeApart(root, folder, volumes)).toThrow('leads over a link');
    expect(fs.existsSync(`${away}/gate`)).toBe(true);
    expect(() => takeApart(root, folder, [volume('sdb1', '/../away/gate', 1)])).toThrow('leads out of the tree');
  });
});

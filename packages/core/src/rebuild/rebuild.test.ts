import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { judgeParts, obstacles } from './judge-parts';
import { leastSize } from './least-size';
import { isPartitionOf, replacementFor } from './replacement';
import type { SystemFacts, VolumeFacts } from './system-facts';

const gb = 1e9;
const volume = (mount: string, device: string, more: Partial<VolumeFacts> = {}): VolumeFacts => ({
  device,
  layer: 'partition',
  on: [device],
  label: '',
  fileSystem: 'ext4',
  bytes: 40 * gb,
  used: 20 * gb,
  mount,
  taken: true,
  ...more,
});
const disk = (name: string, bytes: number) => ({
  name,
  bytes,
  serial: `S-${name}`,
  model: 'Harbour Disk',
  port: '0:0',
  table: 'gpt' as const,
  partitions: [],
});
const server: SystemFacts = {
  firmware: 'uefi',
  architecture: 'x86_64',
  processor: 'Harbour Processor',
  cores: 4,
  memory: 16 * gb,
  disks: [disk('sda', 64 * gb), disk('sdb', 500 * gb)],
  volumes: [
    volume('/boot/efi', 'sda1', { fileSystem: 'vfat', bytes: 0.5 * gb, used: 0.01 * gb }),
    volume('/', 'sda2'),
    volume('', 'sda3', { fileSystem: 'swap', bytes: 8 * gb, used: null, taken: false }),
    volume('/var/gate', 'sdb1', { bytes: 400 * gb, used: 212 * gb }),
    volume('/srv/store', 'sdb2', { bytes: 90 * gb, used: 80 * gb, taken: false }),
  ],
  loader: 'GRUB',
  kernels: [{ version: '6.1.0', initramfs: true, modules: true }],
  cards: [
    { name: 'eno1', mac: '02:00:5e:00:00:01', driver: 'e1000e' },
    { name: 'eno2', mac: '02:00:5e:00:00:02', driver: '' },
  ],
  controllers: [{ name: 'storage 8086:a352', driver: 'ahci' }],
  unread: {},
};
const lacks = (more: Partial<SystemFacts>) =>
  Object.fromEntries(obstacles(judgeParts({ ...server, ...more })).map((p) => [p.part, p.missing]));
const withRoot = (more: Partial<VolumeFacts>) => ({ volumes: server.volumes.map((v) => (v.mount === '/' ? { ...v, ...more } : v)) });

describe('the system parts of a server', () => {
  it('are whole where all that another machine needs is there', () => {
    expect(judgeParts(server).every((p) => p.missing === '')).toBe(true);
  });

  it('that are essential keep it from being rebuilt, each for its reason', () => {
    expect(lacks({ disks: [] })).toEqual({ layout: 'no disk was found' });
    expect(lacks({ volumes: server.volumes.filter((v) => v.mount !== '/') })['layout']).toContain('not found on any disk');
    expect(lacks(withRoot({ fileSystem: 'zfs' }))['layout']).toBe('/ is zfs, which can not be made anew');
    expect(lacks(withRoot({ layer: 'raid' }))['layout']).toContain('on software RAID');
    expect(lacks(withRoot({ taken: false }))['layout']).toBe('the files of / are left out');
    expect(lacks({ firmware: 'unknown' })['firmware']).toContain('UEFI or by BIOS');
    expect(lacks({ volumes: server.volumes.filter((v) => v.mount !== '/boot/efi') })['firmware']).toContain('is not mounted');
    expect(lacks({ firmware: 'bios' })['firmware']).toContain('by BIOS');
    expect(lacks(withRoot({ layer: 'logical' }))['layout']).toBe('/ is a logical volume, which is not made anew yet');
    expect(lacks({ loader: '' })).toHaveProperty('loader');
    expect(lacks({ kernels: [] })['kernel']).toContain('no kernel');
    expect(lacks({ kernels: [{ version: '6', initramfs: true, modules: false }] })['kernel']).toContain('modules');
    expect(lacks({ kernels: [{ version: '6', initramfs: false, modules: true }] })['kernel']).toContain('initramfs');
    expect(lacks({ unread: { mounts: 'it is not there' } })).toEqual({ mounts: 'it is not there' });
  });

  it('that are not essential do not', () => {
    const judged = judgeParts({ ...server, cards: [], memory: 0, unread: { packages: 'gone' } });
    expect(obstacles(judged)).toEqual([]);
    expect(judged.filter((p) => p.missing).map((p) => p.part)).toEqual(['hardware', 'network', 'packages']);
  });

  it('do not lack a thing for a volume of data that is strange or left out', () => {
    const volumes = server.volumes.map((v) => (v.mount === '/var/gate' ? { ...v, fileSystem: 'zfs', taken: false } : v));
    expect(lacks({ volumes })).toEqual({});
  });
});

describe('the least size of a volume', () => {
  it('holds content, staging, a tenth of both and what the file system needs, and grows with each', () => {
    fc.assert(
      fc.property(fc.double({ min: 0, max: 1e13, noNaN: true }), fc.double({ min: 0, max: 1e9, noNaN: true }), (content, staging) => {
        const least = leastSize(content, staging);
        expect(least.bytes).toBeGreaterThanOrEqual(1.1 * (content + staging) + least.bytes / 64 - 1);
        expect(least.bytes % (1 << 20)).toBe(0);
        expect(least.room).toBeCloseTo((content + staging) / 10, 0);
        expect(leastSize(content + 1e9, staging).bytes).toBeGreaterThan(least.bytes);
        expect(leastSize(content, staging + 1e9).bytes).toBeGreaterThan(least.bytes);
      }),
    );
  });
});

describe('the machine that takes its place', () => {
  it('needs disks for what comes back, not for what was free or holds backups', () => {
    const { disks, notYet, drivers, undriven } = replacementFor(server);
    expect(disks.map((d) => [d.now.name, d.system, d.volumes.map((v) => v.volume.mount)])).toEqual([
      ['sda', true, ['/boot/efi', '/', '']],
      ['sdb', false, ['/var/gate']],
    ]);
    expect(disks[0]!.least).toBeGreaterThan(22 * gb + 8 * gb);
    expect(disks[0]!.least).toBeLessThan(34 * gb);
    expect(disks[1]!.least).toBeGreaterThan(1.1 * 212 * gb);
    expect(disks[1]!.least).toBeLessThan(1.2 * 212 * gb);
    expect(notYet.map((v) => v.mount)).toEqual(['/srv/store']);
    expect(drivers).toEqual([
      { driver: 'ahci', serves: ['storage 8086:a352'] },
      { driver: 'e1000e', serves: ['eno1'] },
    ]);
    expect(undriven).toEqual(['eno2']);
  });

  it('is told partitions of one disk from those of another', () => {
    expect(isPartitionOf('sda1', 'sda')).toBe(true);
    expect(isPartitionOf('sdaa1', 'sda')).toBe(false);
    expect(isPartitionOf('nvme0n1p2', 'nvme0n1')).toBe(true);
    expect(isPartitionOf('nvme0n12', 'nvme0n1')).toBe(false);
    expect(isPartitionOf('sda', 'sda')).toBe(false);
  });
});

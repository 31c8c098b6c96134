import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { checkLayout } from './check-layout';
import { checkMachine } from './check-machine';
import { leftOn, placeOfVolume, placeVolume } from './edit-layout';
import { proposeLayout, volumesBack, type Layout, type NewDisk, type NewMachine } from './layout';
import type { SystemFacts, VolumeFacts } from './system-facts';

const mebibyte = 1 << 20;
const gb = 1e9;
const whole = (bytes: number) => Math.floor(bytes / mebibyte) * mebibyte;

const volume = (device: string, mount: string, bytes: number, used: number | null, more: Partial<VolumeFacts> = {}): VolumeFacts => ({
  device,
  layer: 'partition',
  on: [device],
  fileSystem: 'ext4',
  label: '',
  bytes,
  used,
  mount,
  taken: true,
  ...more,
});
const partition = (no: number, start: number, bytes: number, type = '') => ({ no, start, bytes, type });
const [efi, root, swap, logs] = [whole(0.5 * gb), whole(40 * gb), whole(8 * gb), whole(400 * gb)];
const server: SystemFacts = {
  firmware: 'uefi',
  architecture: 'x86_64',
  processor: '',
  cores: 4,
  memory: 16 * gb,
  disks: [
    {
      name: 'sda',
      bytes: 64 * gb,
      serial: '7F21',
      model: '',
      port: '',
      table: 'gpt',
      partitions: [partition(1, mebibyte, efi), partition(2, mebibyte + efi, root), partition(3, mebibyte + efi + root, swap)],
    },
    { name: 'sdb', bytes: 500 * gb, serial: '09AA', model: '', port: '', table: 'gpt', partitions: [partition(1, mebibyte, logs)] },
  ],
  volumes: [
    volume('sda1', '/boot/efi', efi, 0.01 * gb, { fileSystem: 'vfat' }),
    volume('sda2', '/', root, 31.4 * gb),
    volume('sda3', '', swap, null, { fileSystem: 'swap', taken: false }),
    volume('sdb1', '/var/gate', logs, 212 * gb),
  ],
  loader: 'GRUB',
  kernels: [{ version: '6.1.0', initramfs: true, modules: true }],
  cards: [],
  controllers: [],
  unread: {},
};
const disk = (id: string, bytes: number, first = false, more: Partial<NewDisk> = {}): NewDisk => ({
  id,
  bytes,
  serial: id,
  first,
  holds: '',
  ...more,
});
const machine = (disks: NewDisk[], more: Partial<NewMachine> = {}): NewMachine => ({
  firmware: 'uefi',
  disks,
  ...more,
});
const codes = (m: NewMachine, layout: Layout = proposeLayout(server, m)) => checkLayout(server, m, layout).map((c) => c.code);
const two = () => [disk('K3-88', 120 * gb, true), disk('K3-91', 320 * gb)];

describe('a layout that is proposed', () => {
  it('is as it was where the disks are large enough, by serial where one is known again', () => {
    const same = machine([disk('B', 500 * gb, false, { serial: '09AA' }), disk('A', 64 * gb, true, { serial: '7F21' })]);
    const layout = proposeLayout(server, same);
    expect(layout.asItWas).toBe(true);
    expect(layout.disks.map((d) => [d.disk, d.partitions.map((p) => p.start)])).toEqual([
      ['A', server.disks[0]!.partitions.map((p) => p.start)],
      ['B', [mebibyte]],
    ]);
    expect(checkLayout(server, same, layout)).toEqual([]);
    const larger = machine([disk('A', 80 * gb, true), disk('B', 4000 * gb)]);
    expect(proposeLayout(server, larger).asItWas).toBe(true);
  });

  it('shrinks a volume whose disk is smaller as far as it has to, and leaves the others as large as they were', () => {
    const layout = proposeLayout(server, machine(two()));
    expect(layout.asItWas).toBe(false);
    const [first, second] = layout.disks;
    expect(first!.partitions.map((p) => p.bytes)).toEqual([efi, root, swap]);
    expect(second!.partitions).toHaveLength(1);
    expect(second!.partitions[0]!.bytes).toBe(whole(320 * gb - 2 * mebibyte));
    expect(codes(machine(two()))).toEqual(['VOLUME_SMALLER']);
  });

  it('makes place for the loader of the firmware that is there', () => {
    const bios = machine([disk('A', 64 * gb, true), disk('B', 500 * gb)], { firmware: 'bios' });
    const layout = proposeLayout(server, bios);
    expect(layout.disks[0]!.partitions[0]).toMatchObject({ for: { loader: 'bios' }, start: mebibyte });
    expect(layout.disks[0]!.partitions.some((p) => 'volume' in p.for && p.for.volume === 'sda1')).toBe(false);
    expect(codes(bios)).toEqual([]);
  });

  it('overlaps nowhere, stays on its disk, gives each volume what it needs or no place at all, whatever there is', () => {
    const disks = fc
      .array(fc.integer({ min: 1, max: 600 }), { minLength: 0, maxLength: 4 })
      .map((sizes) => sizes.map((s, i) => disk(`D${i}`, s * gb + i, i === 0)));
    const odd = fc.record({
      root: fc.integer({ min: 1, max: 60 }),
      logs: fc.integer({ min: 1, max: 500 }),
      part: fc.double({ min: 0.01, max: 0.97, noNaN: true }),
    });
    fc.assert(
      fc.property(disks, odd, fc.constantFrom('uefi' as const, 'bios' as const), (there, { root: r, logs: l, part }, firmware) => {
        const volumes = server.volumes.map((v) =>
          v.mount === '/'
            ? { ...v, bytes: r * gb, used: r * gb * part }
            : v.mount === '/var/gate'
              ? { ...v, bytes: l * gb, used: l * gb * part }
              : v,
        );
        const system = { ...server, volumes };
        const m = machine(there, { firmware });
        const layout = proposeLayout(system, m);
        const wrong = ['OVERLAP', 'OUT_OF_DISK', 'SYSTEM_NOT_FIRST', 'TABLE_TOO_SMALL', ...(layout.asItWas ? [] : ['VOLUME_TIGHT'])];
        expect(checkLayout(system, m, layout).filter((c) => wrong.includes(c.code))).toEqual([]);
        const placed = layout.disks.flatMap((d) => d.partitions.flatMap((p) => ('volume' in p.for ? [p.for.volume] : [])));
        expect(new Set(placed).size).toBe(placed.length);
        const all = volumesBack(system).map((n) => n.volume.device);
        const dropped = firmware === 'bios' && !layout.asItWas ? ['sda1'] : [];
        expect([...placed, ...layout.without, ...dropped].sort()).toEqual([...all].sort());
        if (!layout.asItWas) for (const p of layout.disks.flatMap((d) => d.partitions)) expect(p.start % mebibyte).toBe(0);
      }),
      { numRuns: 300 },
    );
  });
});

describe('what stands against a layout', () => {
  const m = machine(two());
  const proposed = proposeLayout(server, m);
  const changed = (at: number, more: object): Layout => ({
    ...proposed,
    disks: proposed.disks.map((d, i) =>
      i === 0 ? { ...d, partitions: d.partitions.map((p, j) => (j === at ? { ...p, ...more } : p)) } : d,
    ),
  });

  it('is told with its numbers', () => {
    const tight = checkLayout(server, m, changed(1, { bytes: whole(32 * gb) })).find((c) => c.code === 'VOLUME_TIGHT');
    expect(tight).toMatchObject({ level: 'stop' });
    expect(tight!.text).toMatch(/^\/ gets 32\.0 GB; 35\.\d GB is the least: 31\.4 GB of content/);
    expect(codes(m, changed(1, { start: mebibyte }))).toContain('OVERLAP');
    expect(codes(m, changed(2, { bytes: 300 * gb }))).toContain('OUT_OF_DISK');
    expect(codes(m, { ...proposed, disks: [...proposed.disks].reverse().map((d, i) => ({ ...d, disk: two()[i]!.id })) })).toContain(
      'SYSTEM_NOT_FIRST',
    );
    expect(codes(m, { ...proposed, disks: proposed.disks.slice(1) })).toEqual(expect.arrayContaining(['SYSTEM_NOT_PLACED', 'NO_LOADER']));
    expect(codes(m, { ...proposed, disks: [] })).toContain('NOTHING_PLACED');
    expect(codes(m, { ...proposed, disks: proposed.disks.slice(0, 1) })).toEqual(['VOLUME_LEFT_OUT']);
    expect(codes(m, changed(0, { for: { volume: 'sdz9' } }))).toContain('NO_LOADER');
  });

  it('is a table that is too small for what it has to say', () => {
    const mbr: Layout = { ...proposed, disks: proposed.disks.map((d) => ({ ...d, table: 'mbr' as const })) };
    const large = machine([disk('K3-88', 120 * gb, true), disk('K3-91', 9000 * gb)]);
    const far: Layout = {
      ...mbr,
      disks: mbr.disks.map((d) => ({
        ...d,
        partitions: d.partitions.map((p) => ({ ...p, start: p.start + (d.disk === 'K3-91' ? 4000 * gb : 0) })),
      })),
    };
    expect(codes(large, far)).toContain('TABLE_TOO_SMALL');
  });

  it('is what a disk holds now', () => {
    const used = machine([disk('K3-88', 120 * gb, true, { holds: 'one volume, “old test system”' }), disk('K3-91', 320 * gb)]);
    expect(checkLayout(server, used, proposed).find((c) => c.code === 'DISK_NOT_EMPTY')!.text).toContain('old test system');
  });
});

describe('a layout that a person changes', () => {
  const m = machine(two());
  const devices = ['sda1', 'sda2', 'sda3', 'sdb1'];

  it('has the volume where it was put and as large, keeps its turn, and leaves the others as large as they were', () => {
    const proposed = proposeLayout(server, m);
    const smaller = placeVolume(proposed, 'sda2', 'K3-88', 36 * gb);
    expect(placeOfVolume(smaller, 'sda2')).toEqual({ disk: 'K3-88', bytes: Math.round((36 * gb) / mebibyte) * mebibyte });
    expect(smaller.disks[0]!.partitions.map((p) => 'volume' in p.for && p.for.volume)).toEqual(['sda1', 'sda2', 'sda3']);
    expect(codes(m, smaller)).toEqual(expect.arrayContaining(['VOLUME_SMALLER']));
    const moved = placeVolume(smaller, 'sda3', 'K3-91', swap);
    expect(placeOfVolume(moved, 'sda3')?.disk).toBe('K3-91');
    expect(leftOn(moved, two()[0]!) - leftOn(smaller, two()[0]!)).toBe(swap);
    const without = placeVolume(moved, 'sdb1', null, logs);
    expect(without.without).toEqual(['sdb1']);
    expect(codes(m, without)).toContain('VOLUME_LEFT_OUT');
    expect(placeVolume(without, 'sdb1', 'K3-91', logs).without).toEqual([]);
  });

  it('never overlaps, and is refused exactly where a disk has too little, whatever is done to it', () => {
    const step = fc.tuple(fc.constantFrom(...devices), fc.constantFrom('K3-88', 'K3-91', null), fc.integer({ min: 0, max: 400 }));
    fc.assert(
      fc.property(fc.array(step, { maxLength: 12 }), (steps) => {
        const layout = steps.reduce((l, [device, to, size]) => placeVolume(l, device, to, size * gb), proposeLayout(server, m));
        const found = codes(m, layout);
        expect(found).not.toContain('OVERLAP');
        expect(found.includes('OUT_OF_DISK')).toBe(two().some((d) => leftOn(layout, d) < 0));
        const placed = layout.disks.flatMap((d) => d.partitions.flatMap((p) => ('volume' in p.for ? [p.for.volume] : [])));
        expect([...placed, ...layout.without].sort()).toEqual(devices);
      }),
      { numRuns: 100 },
    );
  });
});

describe('a machine that takes the place', () => {
  const fits = { firmware: 'uefi' as const, architecture: 'x86_64', memory: 16 * gb, cards: [], controllers: [], clock: 1000 };
  const said = (more: object) => checkMachine(server, { ...fits, ...more }, 1000).map((c) => `${c.level} ${c.code}`);

  it('is refused where the server would not start there, and what differs has to be wanted', () => {
    expect(said({})).toEqual([]);
    expect(said({ architecture: 'aarch64' })).toEqual(['stop OTHER_PROCESSOR']);
    expect(said({ firmware: 'bios' })).toEqual(['stop BIOS']);
    expect(said({ memory: 0.2 * gb })).toEqual(['stop MEMORY_SMALL']);
    expect(said({ memory: 8 * gb })).toEqual(['agree MEMORY_SMALL']);
    expect(said({ cards: [{ name: 'enp3s0', driver: '' }] })).toEqual(['agree NO_DRIVER']);
    expect(said({ clock: 1000 - 400_000 })).toEqual(['agree CLOCK_WRONG']);
    expect(said({ clock: 1000 + 200_000 })).toEqual([]);
    const carded = { ...server, cards: [{ name: 'eno1', mac: '', driver: 'nx1' }] };
    expect(checkMachine(carded, fits, 1000).map((c) => c.code)).toEqual(['FEWER_CARDS']);
  });
});

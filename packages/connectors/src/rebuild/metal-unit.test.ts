import { describe, expect, it } from 'vitest';
import { unitFactsOf } from './metal-unit';
import { refusal } from './unit-side';

const nothing = { fstype: null, label: null, pttype: null, mountpoints: [null], children: [] };
const block = (kname: string, type: string, size: number, more: object = {}) => ({
  ...nothing,
  kname,
  type,
  size,
  'log-sec': 512,
  ...more,
});
const hardware = (blocks: object[], mounts = '') => ({
  firmware: 'uefi' as const,
  bootEntries: [],
  architecture: 'x86_64',
  processor: 'made up',
  cores: 4,
  memory: 8e9,
  blocks: JSON.stringify({ blockdevices: blocks }),
  mounts,
  cards: [],
  routes: [],
  controllers: [],
});

describe('a machine that was started from the medium', () => {
  it('tells its disks by serial, port or name, with what is on them, and not the medium', () => {
    const old = block('vda1', 'part', 90e9, { fstype: 'ext4', label: 'old test system', start: 2048 });
    const stick = block('sdc1', 'part', 4e9, { fstype: 'iso9660', label: 'LITHODEX', mountpoints: ['/medium'] });
    const { facts, deviceOf } = unitFactsOf(
      hardware([
        block('vda', 'disk', 100e9, { pttype: 'gpt', children: [old] }),
        block('sda', 'disk', 200e9, { serial: 'K3-91', tran: 'sata', hctl: '0:0:0:0' }),
        block('sdb', 'disk', 300e9, { serial: 'K3-91', tran: 'sata', hctl: '1:0:0:0' }),
        block('sdc', 'disk', 4e9, { tran: 'usb', children: [stick] }),
        block('sr0', 'rom', 1e9, { fstype: 'iso9660', mountpoints: ['/medium'] }),
      ]),
      5,
      (disk) => (disk === 'vda' ? 'K9-01' : ''),
    );
    expect(facts.disks.map((d) => [d.id, d.bytes, d.port, d.first, d.holds])).toEqual([
      ['K9-01', 100e9, '', true, '1 partition: “old test system”, ext4'],
      ['K3-91', 200e9, 'sata 0:0:0:0', false, ''],
      ['K3-91 sdb', 300e9, 'sata 1:0:0:0', false, ''],
    ]);
    expect([...deviceOf]).toEqual([
      ['K9-01', 'vda'],
      ['K3-91', 'sda'],
      ['K3-91 sdb', 'sdb'],
    ]);
    expect(facts).toMatchObject({ firmware: 'uefi', memory: 8e9, clock: 5 });
  });
});

describe('an order', () => {
  const disk = (more: object = {}) => ({ id: 'K3-88', bytes: 5, serial: '', model: '', port: '', first: true, holds: '', ...more });
  const order = (then: ReturnType<typeof disk>) => ({
    taskId: 'this one',
    firmware: 'uefi' as const,
    disks: [then],
    layout: [{ disk: 'K3-88', table: 'gpt' as const, partitions: [] }],
    system: { disks: [], volumes: [] },
    asItself: true,
  });

  it('is refused where the disks are not what they were when it was decided', () => {
    const refused = (then: ReturnType<typeof disk>, now: ReturnType<typeof disk>[], halfMade = new Map<string, string>()) =>
      refusal(order(then), now, halfMade);
    expect(refused(disk(), [disk()])).toBeUndefined();
    expect(refused(disk({ holds: 'old' }), [disk({ holds: 'old' })])).toBeUndefined();
    expect(refused(disk({ holds: 'old' }), [disk()])).toBeUndefined();
    expect(refused(disk(), [])).toContain('is not there any more');
    expect(refused(disk(), [disk({ bytes: 6 })])).toContain('has 6 B now, and had 5 B');
    const full = [disk({ holds: 'somebody’s data' })];
    expect(refused(disk(), full)).toContain('holds something else now: somebody’s data');
    expect(refused(disk(), full, new Map([['K3-88', 'another one']]))).toContain('holds something else now');
    expect(refused(disk(), full, new Map([['K3-88', 'this one']]))).toBeUndefined();
  });
});

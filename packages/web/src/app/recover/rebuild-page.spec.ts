import { describe, expect, it } from 'vitest';
import type { RestorePlan, Unit } from '@lithodex/contract';
import { now, open, words } from '../../test/stage';
import { uuid } from '../../test/samples';
import { whole } from '../../test/whole-server';
import { readEdits, writeEdits } from './layout-edits';

const unit: Unit = {
  name: 'C4-07',
  present: true,
  firstSeen: now,
  lastSeen: now,
  run: null,
  facts: {
    firmware: 'uefi',
    architecture: 'x86_64',
    processor: 'made up',
    cores: 8,
    memory: 16e9,
    cards: [{ name: 'eno1', mac: '02:00:5e:00:53:10', driver: 'nx1', addresses: ['192.0.2.200/24'] }],
    controllers: [],
    clock: now,
    disks: [
      { id: 'K3-88', bytes: 120e9, serial: 'K3-88', model: '', port: 'port 1', first: true, holds: '1 partition: “old test system”, ext4' },
      { id: 'K3-91', bytes: 320e9, serial: 'K3-91', model: '', port: 'port 2', first: false, holds: '' },
    ],
  },
};
const servers = [{ id: 1, name: 'quay-gate' }];
const plan = (checks: RestorePlan['checks']): RestorePlan => ({
  items: [],
  checks,
  copies: [],
  readFrom: [],
  total: { picks: 1, bytes: 5e9, items: 900, files: 800 },
  estimateMs: 60_000,
  rate: null,
  rateFrom: '',
  price: null,
  free: null,
  rescue: null,
  existing: { looked: 0, exist: 0, newer: 0, complete: true },
});
const fine = { level: 'fine' as const, code: 'LAYOUT', text: 'K3-88: / 40.0 GB.' };
const at = (query: string, checks: RestorePlan['checks'] = [fine]) =>
  open(`/recover/rebuild${query}`, {
    answers: {
      listUnits: { rows: [unit], servers },
      readyToRebuild: whole,
      planRestore: plan(checks),
      startRestore: { runId: 71 },
    },
  });
type Stage = Awaited<ReturnType<typeof at>>;
const planned = (s: Stage) => s.api.last('planRestore') as { body: { destination: { layout: unknown[] | null; erase: string[] } } };

describe('a rebuild', () => {
  it('asks for server and unit first, and then says what goes where', async () => {
    const s = await at('');
    expect(s.text()).toContain('Choose a server and a unit.');
    expect(s.button('Start rebuild').disabled).toBe(true);
    await s.fill('server', 'quay-gate');
    await s.fill('unit', 'C4-07');
    await s.until(() => {
      expect(s.api.of('planRestore').length).toBeGreaterThan(0);
    });
    expect(planned(s).body).toMatchObject({
      picks: [{ pointId: uuid(4), path: '' }],
      destination: { to: 'unit', unit: 'C4-07', layout: null, erase: [], asItself: true },
    });
    expect(words(s.one('h1'))).toBe('Rebuild quay-gate');
    expect(s.one('lx-rebuild-cores .cores').getAttribute('aria-label')).toMatch(
      /^K3-88, 120 GB, starts first: \/ 40\.0 GB, .*K3-91, 320 GB: nothing, 320 GB free$/,
    );
    expect(s.all('tbody tr').map((r) => words(r.querySelector('td')!))).toEqual(['/', 'swap']);
  });

  it('puts a volume elsewhere and makes it smaller by the table, keeps that in the address, and goes back', async () => {
    const s = await at('?workload=1&unit=C4-07');
    const disk = s.one<HTMLSelectElement>('[aria-label="Disk of swap"]');
    disk.value = 'K3-91';
    disk.dispatchEvent(new Event('change'));
    await s.settle();
    const size = s.one<HTMLInputElement>('[aria-label="Size of / in GB"]');
    size.value = '36.5';
    size.dispatchEvent(new Event('change'));
    await s.until(() => {
      expect(planned(s).body.destination.layout).toMatchObject([
        { disk: 'K3-88', partitions: [{ no: 1, start: 1 << 20, bytes: Math.round(36.5e9 / (1 << 20)) * (1 << 20) }] },
        { disk: 'K3-91', partitions: [{ no: 1 }] },
      ]);
    });
    await s.click('As proposed');
    await s.until(() => {
      expect(planned(s).body.destination.layout).toBeNull();
    });
  });

  it('erases what a disk holds only where that is said, and starts when all is answered and why', async () => {
    const look = { level: 'look' as const, code: 'NO_DRIVER', text: 'enp3s0 has no driver here.' };
    const s = await at('?workload=1&unit=C4-07', [fine, look]);
    await s.until(() => {
      expect(s.text()).toContain('1 needs you');
    });
    await s.click(s.one('.erase input'));
    await s.until(() => {
      expect(planned(s).body.destination.erase).toEqual(['K3-88']);
    });
    await s.until(() => {
      expect(s.text()).toContain('enp3s0 has no driver here.');
    });
    expect(s.button('Start rebuild').disabled).toBe(true);
    await s.click('Agree');
    await s.type('.why input', 'its hardware is gone');
    await s.click('Start rebuild');
    expect(s.api.last('startRestore')).toMatchObject({
      body: { reason: 'its hardware is gone', trial: false, destination: { to: 'unit', erase: ['K3-88'] } },
    });
  });

  it('is stopped by what stands against it', async () => {
    const s = await at('?workload=1&unit=C4-07', [
      { level: 'stop', code: 'UNIT_BUSY', text: 'C4-07 is being made anew already, by run 4.' },
    ]);
    await s.until(() => {
      expect(s.text()).toContain('when nothing stands in the way');
    });
    await s.type('.why input', 'its hardware is gone');
    expect(s.button('Start rebuild').disabled).toBe(true);
  });
});

describe('edits of a layout', () => {
  it('come back from an address, and what is none is passed over', () => {
    const edits = [
      { device: 'sda2', disk: 'K3:88,x', bytes: 5e9 },
      { device: 'vg-root', disk: null, bytes: 1 },
    ];
    expect(readEdits(writeEdits(edits))).toEqual(edits);
    for (const odd of ['', ',', 'sda2', 'sda2:K3', 'sda2:K3:-5', 'sda2:K3:x', '%:K3:5', ':K3:5', 'sda2:K3:1e99'])
      expect(readEdits(odd)).toEqual([]);
  });
});

describe('units', () => {
  it('are listed with what they are; one is let in by a code that is shown once, and sent away', async () => {
    const rows = [unit, { ...unit, name: 'C4-08', present: false, run: { id: 12, state: 'failed', workload: 'quay-gate' } }];
    const s = await open('/recover/units', {
      answers: { listUnits: { rows, servers }, inviteUnit: { code: 'lxu_secret', until: now }, forgetUnit: {} },
    });
    const [first, second] = s.all('tbody tr').map(words);
    expect(first).toContain('C4-07 answers now 8 cores, 16.0 GB, UEFI, x86_64');
    expect(first).toContain('K3-88 120 GB , port 1, starts first, 1 partition: “old test system”, ext4');
    expect(second).toContain('C4-08 silent since');
    expect(second).toContain('Run 12 quay-gate, failed');
    await s.click('Let a unit report in');
    expect(words(s.one('pre'))).toBe('lxu_secret');
    await s.click(s.one('[aria-label="Send away C4-08"]'));
    await s.click('Send it away');
    expect(s.api.last('forgetUnit')).toMatchObject({ id: 'C4-08' });
  });
});

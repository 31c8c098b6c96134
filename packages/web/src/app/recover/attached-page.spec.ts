import { describe, expect, it } from 'vitest';
import type { Attached } from '@lithodex/contract';
import { uuid } from '../../test/samples';
import { hour, now, open, words } from '../../test/stage';

const row = (runId: number, more: Partial<Attached> = {}): Attached => ({
  runId,
  workload: { id: 3, name: 'gate-01' },
  pointId: uuid(1),
  moment: now - hour,
  path: 'disks/system.raw/p2',
  as: 'device',
  person: 'eva.vind',
  reason: 'a look at the log',
  since: now - 60_000,
  until: now + 8 * hour,
  mover: 'mover-1',
  read: 4e6,
  mine: true,
  ...more,
});
const at = {
  as: 'device' as const,
  host: '127.0.0.1',
  port: 40_000,
  name: 'system.raw-p2',
  user: 'lithodex',
  key: 'a'.repeat(64),
  size: 2e9,
  until: now + 8 * hour,
};

describe('what is attached', () => {
  it('is listed with who reads what until when, and detached by one press', async () => {
    const s = await open('/recover/attached', {
      answers: { listAttached: { rows: [row(7), row(8, { mine: false, person: 'ona.lund' })] }, stopRun: {} },
    });
    const rows = s.all('tbody tr').map(words);
    expect(rows[0]).toContain('p2 a block device, disks/system.raw/p2 gate-01');
    expect(rows[0]).toContain('4.00 MB');
    expect(rows[1]).not.toContain('How to read it');
    await s.click(s.one('[aria-label="Detach disks/system.raw/p2"]'));
    expect(s.api.last('stopRun')).toMatchObject({ id: 7 });
  });

  it('gives ready commands with the key, to who attached it', async () => {
    const s = await open('/recover/attached', { answers: { listAttached: { rows: [row(7)] }, attached: { at, until: now + 8 * hour } } });
    expect(s.api.last('attached')).toBeUndefined();
    await s.click('How to read it');
    expect(s.url()).toBe('/recover/attached?run=7');
    const commands = s.all('code').map((c) => c.textContent);
    expect(commands[0]).toContain(`lithodex:${at.key}`);
    expect(commands[1]).toBe('nbdcopy "nbds://lithodex@127.0.0.1:40000/system.raw-p2?tls-psk-file=$PWD/keys.psk" system.raw-p2.raw');
    await s.click('Hide');
    expect(s.all('code')).toEqual([]);
  });

  it('gives the address, the key and the fingerprint of a drive', async () => {
    const drive = {
      as: 'drive' as const,
      host: '127.0.0.1',
      port: 40_001,
      name: 'var',
      user: 'lithodex',
      key: 'k'.repeat(32),
      certificate: 'PEM',
      fingerprint: 'AB:CD',
    };
    const s = await open('/recover/attached?run=7', {
      answers: {
        listAttached: { rows: [row(7, { as: 'drive', path: 'disks/system.raw/p2/var' })] },
        attached: { at: drive, until: now + hour },
      },
    });
    const commands = s.all('code').map((c) => c.textContent);
    expect(commands[0]).toContain(drive.key);
    expect(commands[1]).toBe('AB:CD');
    expect(commands).toContain('https://127.0.0.1:40001/');
    expect(s.text()).toContain('a drive, disks/system.raw/p2/var');
  });

  it('says how to come by something where nothing is', async () => {
    const s = await open('/recover/attached', { answers: { listAttached: { rows: [] } } });
    expect(s.text()).toContain('Nothing is attached.');
  });
});

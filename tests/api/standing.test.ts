import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { rounds } from '../support/by-command';
import type { BodyInput } from '@lithodex/contract';
import { letGuestWrite, type PlatformService } from '@lithodex/standins';
import { Harness, policyFor, type Client } from '../support/harness';
import { describeTree } from '../support/nasty-tree';
import { buildLogger, startPlatform } from '../support/platform';

const day = 86_400_000;
let now = Date.parse('2026-11-23T01:00:00Z');
let h: Harness;
let admin: Client;
let service: PlatformService;
let platformId: number;
let source: string;
let folderWorkload: number;
let machineWorkload: number;
let policyId: number;

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000, schedulerMs: 0, clock: { now: () => now } });
  admin = await h.as('administrator');
  let targetId: string;
  ({ source, workloadId: folderWorkload, targetId } = await h.connect(admin));
  fs.mkdirSync(`${source}/rosters`);
  const started = await startPlatform(`${h.folder}/platform`);
  ({ service } = started);
  await buildLogger(service, 'gate-01', { tags: ['gates'] });
  ({ id: platformId } = await admin.call('addPlatform', { body: started.body }));
  machineWorkload = (await admin.call('estate')).workloads.find((w) => w.name === 'gate-01')!.id;
  ({ id: policyId } = await admin.call('addPolicy', {
    body: policyFor([folderWorkload, machineWorkload], targetId, { changeLimit: 100 }),
  }));
}, 60_000);
afterAll(async () => {
  await h.stop();
  await service.stop();
});

const base = (): string => `${h.folder}/proof`;
const body = (more: Partial<BodyInput<'addStanding'>> = {}): BodyInput<'addStanding'> => ({
  name: 'Every morning',
  workloads: [folderWorkload],
  schedule: { every: 'day', at: '05:00' },
  destination: { to: 'folder', folder: base() },
  reason: 'we want to know that it comes back',
  ...more,
});
const onPlatform = (): BodyInput<'addStanding'> =>
  body({
    name: 'The gate every morning',
    workloads: [machineWorkload],
    destination: { to: 'platform', platformId, host: 'rock-1', folder: '/Proof', storage: 'cellar', suffix: '-proof' },
  });
/** The folder that all of it goes to is nobody's copy. */
const tree = (folder: string) => describeTree(folder).replace(/^\|d\|.*$/m, '');
const evidence = async (id: number) => (await admin.call('standingEvidence', { id })).rows;
const one = async (id: number) => (await admin.call('listStanding')).rows.find((r) => r.id === id)!;
const ended = async (id: number, times: number) => {
  await vi.waitFor(async () => expect((await evidence(id)).filter((e) => e.took !== null)).toHaveLength(times), {
    timeout: 60_000,
    interval: 100,
  });
  return (await evidence(id))[0]!;
};

describe('a restore that is repeated', () => {
  it('is set up by an administrator only, and refused where it makes no sense', async () => {
    for (const role of ['operator', 'auditor', 'clerk'] as const)
      await expect((await h.as(role)).call('addStanding', { body: body() })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    await expect((await h.as('clerk')).call('listStanding')).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    await expect(admin.call('addStanding', { body: body({ workloads: [99_999] }) })).rejects.toMatchObject({ code: 'INVALID' });
    await expect(admin.call('addStanding', { body: { ...onPlatform(), workloads: [folderWorkload] } })).rejects.toMatchObject({
      code: 'INVALID',
    });
    await expect(admin.call('startStanding', { id: 77 })).rejects.toMatchObject({ code: 'NOT_FOUND' });
    const { id } = await admin.call('addStanding', { body: body() });
    await expect(admin.call('addStanding', { body: body() })).rejects.toMatchObject({ code: 'NAME_TAKEN' });
    await expect(admin.call('startStanding', { id })).rejects.toMatchObject({
      code: 'NOT_NOW',
      message: expect.stringContaining('There is no good point of quay-1'),
    });
    await admin.call('removeStanding', { id });
    expect((await admin.call('listStanding')).rows).toEqual([]);
  });

  it('brings the newest points back every day, each in place of the one before, with evidence', async () => {
    const { id } = await admin.call('addStanding', { body: body() });
    const { id: machines } = await admin.call('addStanding', { body: onPlatform() });
    await expect(fs.promises.access(base())).rejects.toThrow();
    const outer = new Set<string>();
    const days = rounds(2, 7);
    for (let n = 1; n <= days; n++) {
      fs.writeFileSync(`${source}/rosters/day-${n}`, `roster of day ${n}\n`.repeat(n * 100));
      if (n > 1) fs.rmSync(`${source}/rosters/day-${n - 1}`);
      await letGuestWrite(service.platform, 'gate-01', 'system', [{ path: '/etc/day', content: Buffer.from(`day ${n}`) }]);
      expect((await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId)).state).toBe('done');
      now += day;
      await h.tick();
      const shown = await ended(id, n);
      expect(shown).toMatchObject({ state: 'done', says: expect.stringContaining('read again, each as it was stored') });
      expect(shown.moments).toEqual([(await admin.call('workload', { id: folderWorkload })).pointList.at(-1)!.moment]);
      const there = fs.readdirSync(`${base()}/quay-1`).filter((name) => !name.startsWith('.'));
      expect(there).toHaveLength(1);
      expect(fs.readdirSync(`${base()}/quay-1/${there[0]}/rosters`)).toEqual([`day-${n}`]);
      expect(tree(`${base()}/quay-1/${there[0]}`)).toBe(tree(source));
      expect(await ended(machines, n)).toMatchObject({ state: 'done' });
      const proof = service.platform.named('gate-01-proof');
      expect(proof).toMatchObject({ running: false, host: 'rock-1', networks: [], tags: [] });
      outer.add(proof.id);
      service.platform.change(proof.id, { running: true });
      expect((await service.files.read(service.platform.named('gate-01-proof'), '/etc/day')).toString()).toBe(`day ${n}`);
    }
    expect(outer.size).toBe(days);
    expect(
      service.platform
        .inventory()
        .machines.map((m) => m.name)
        .sort(),
    ).toEqual(['gate-01', 'gate-01-proof']);
    await vi.waitFor(
      async () => expect((await admin.call('estate')).workloads.filter((w) => w.name === 'gate-01-proof')).toHaveLength(1),
      20_000,
    );
    expect(await evidence(id)).toHaveLength(days);
    expect((await one(id)).next).toBe(Date.parse('2026-11-23T04:00:00Z') + days * day);
  });

  it('leaves what is there when it fails, and says why; the next one takes both away', async () => {
    const [row] = (await admin.call('listStanding')).rows.filter((r) => r.body.name === 'Every morning');
    const before = fs.readdirSync(`${base()}/quay-1`).filter((name) => !name.startsWith('.'));
    fs.chmodSync(`${base()}/quay-1`, 0o755);
    await admin.call('changeStanding', { id: row!.id, body: body({ destination: { to: 'folder', folder: `${h.folder}/keys` } }) });
    now += day;
    await h.tick();
    expect((await one(row!.id)).trouble).not.toBe('');
    expect(fs.readdirSync(`${base()}/quay-1`).filter((name) => !name.startsWith('.'))).toEqual(before);
    const matters = await admin.call('watch');
    expect(JSON.stringify(matters.matters)).toContain('Every morning');
    await admin.call('changeStanding', { id: row!.id, body: body() });
    // what only looks like one of ours is left alone
    fs.mkdirSync(`${base()}/quay-1/kept by hand`);
    now += 1000;
    const { runId } = await admin.call('startStanding', { id: row!.id });
    expect(await admin.ended(runId)).toMatchObject({ state: 'done' });
    const after = fs.readdirSync(`${base()}/quay-1`).filter((name) => !name.startsWith('.'));
    expect(after).toHaveLength(2);
    expect(after).toContain('kept by hand');
    expect(after).not.toContain(before[0]);
    expect((await one(row!.id)).trouble).toBe('');
  });

  it('never follows a link that somebody has put where it takes away', async () => {
    const [row] = (await admin.call('listStanding')).rows.filter((r) => r.body.name === 'Every morning');
    const inside = fs.readdirSync(`${base()}/quay-1`).find((name) => /^\d/.test(name))!;
    fs.mkdirSync(`${h.folder}/precious`);
    fs.writeFileSync(`${h.folder}/precious/file`, 'keep me');
    fs.symlinkSync(`${h.folder}/precious`, `${base()}/quay-1/${inside}/rosters/link`);
    now += 2000;
    expect(await admin.ended((await admin.call('startStanding', { id: row!.id })).runId)).toMatchObject({ state: 'done' });
    expect(fs.existsSync(`${base()}/quay-1/${inside}`)).toBe(false);
    expect(fs.readFileSync(`${h.folder}/precious/file`, 'utf8')).toBe('keep me');
  });
});

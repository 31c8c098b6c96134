import type { BodyInput } from '@lithodex/contract';
import { letGuestWrite, type PlatformService } from '@lithodex/standins';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';
import { buildLogger, startPlatform } from '../support/platform';

let h: Harness;
let admin: Client;
let service: PlatformService;
let policyId: number;
let workloadId: number;
let body: BodyInput<'addPolicy'>;
const inside = 'disks/system.raw/p2';

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
  const { targetId } = await h.connect(admin);
  const started = await startPlatform(`${h.folder}/platform`);
  ({ service } = started);
  await buildLogger(service, 'gate-01');
  await buildLogger(service, 'gate-02');
  await admin.call('addPlatform', { body: started.body });
  const { workloads } = await admin.call('estate');
  const [one, other] = ['gate-01', 'gate-02'].map((name) => workloads.find((w) => w.name === name)!.id) as [number, number];
  workloadId = one;
  body = { ...policyFor([workloadId], targetId), name: 'With names', namesInside: true };
  policyId = (await admin.call('addPolicy', { body })).id;
  const plain = await admin.call('addPolicy', { body: { ...policyFor([other], targetId), name: 'Without names' } });
  await admin.ended((await admin.call('runPolicy', { id: plain.id, body: {} })).runId);
}, 90_000);
afterAll(async () => {
  await h.stop();
  await service.stop();
});

const night = async () => {
  await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
  return (await admin.call('workload', { id: workloadId })).pointList.reduce((a, b) => (b.moment > a.moment ? b : a)).id;
};
const search = (q: string, more: object = {}) => admin.call('search', { query: { q, limit: 50, ...more } });
const write = (path: string, content: string) =>
  letGuestWrite(service.platform, 'gate-01', 'system', [{ path, content: Buffer.from(content) }]);
const tree = (id: string, path: string) => admin.call('tree', { id, query: { path } });

describe('names inside the disks of machines, where their policy keeps them', () => {
  let first: string;
  let second: string;
  let last: string;

  it('are found by a search with their whole paths, those of others are not, and that is said', async () => {
    first = await night();
    const found = await search('gate.log');
    expect(found.rows).toMatchObject([
      { workload: { name: 'gate-01' }, path: `${inside}/var/log/gate.log`, kind: 'file', size: 30_000, versions: 1, stillThere: true },
    ]);
    expect(found.notInside).toBe(1);
    expect((await search('system')).rows.map((r) => r.path)).toContain('disks/system.raw');
    const { rows } = await admin.call('findPaths', { body: { paths: [`${inside}/etc/hostname`] } });
    expect(rows[0]!.found).toMatchObject([{ workload: { name: 'gate-01' }, path: `${inside}/etc/hostname` }]);
  });

  it('are searched among what a policy has points of', async () => {
    expect((await search('gate.log', { policy: String(policyId) })).rows).toHaveLength(1);
    expect(await search('gate.log', { policy: String(policyId + 1) })).toMatchObject({ rows: [], notInside: 1 });
    expect(await search('gate.log', { policy: '4711' })).toMatchObject({ rows: [], notInside: 0 });
  });

  it('have versions, and tell what became of each since', async () => {
    await write('/var/log/gate.log', 'emptied\n');
    await write('/var/log/second.log', 'new\n');
    second = await night();
    const { rows } = await admin.call('versions', { query: { workload: String(workloadId), path: `${inside}/var/log/gate.log` } });
    expect(rows.map((v) => [v.size, v.ended])).toEqual([
      [8, 'still'],
      [30_000, 'replaced'],
    ]);
    expect((await tree(first, `${inside}/var/log`)).rows).toMatchObject([{ name: 'gate.log', since: 'changed', versions: 2 }]);
    expect((await tree(first, `${inside}/etc`)).inside).toBe(false);
    expect((await tree(first, `${inside}/etc`)).rows).toMatchObject([{ name: 'hostname', since: 'same', versions: 1 }]);
    expect((await tree(second, `${inside}/var/log`)).rows.map((r) => r.name)).toEqual(['gate.log', 'second.log']);
    expect((await tree(first, 'disks/system.raw')).rows).toMatchObject([{ name: 'p1' }, { name: 'p2', about: 'ext4 “system”' }]);
  });

  it('are told apart between two points, file by file', async () => {
    const { rows } = await admin.call('difference', { id: first, query: { with: second, limit: 100 } });
    const files = rows.filter((r) => (r.after ?? r.then)?.kind === 'file').map((r) => [r.path, r.change]);
    expect(files).toEqual(
      expect.arrayContaining([
        [`${inside}/var/log/gate.log`, 'changed'],
        [`${inside}/var/log/second.log`, 'added'],
      ]),
    );
    expect(files.some(([path]) => path!.endsWith('hostname'))).toBe(false);
  });

  it('come back from the points that hold them', async () => {
    const { runId } = await admin.call('startRestore', {
      body: {
        reason: 'a log is wanted',
        picks: [{ pointId: first, path: `${inside}/var/log/gate.log` }],
        destination: { to: 'download', format: 'file' },
      },
    });
    const back = Buffer.from(await (await admin.fetch('download', { id: runId })).arrayBuffer());
    expect(back.length).toBe(30_000);
    const inPlace = { picks: [{ pointId: first, path: `${inside}/var/log/gate.log` }], destination: { to: 'original' as const } };
    const plan = await admin.call('planRestore', { body: { ...inPlace, reason: '' } });
    expect(plan.items).toMatchObject([{ goesTo: 'gate-01: /var/log/gate.log', size: 30_000 }]);
  });

  it('leave a suspect point what it was: its disks are what is damaged, and come back whole', async () => {
    await write('/var/log/second.log', 'written over\n');
    const suspect = await night();
    last = suspect;
    await h.server.deps.db('point').where({ id: suspect }).update({ suspect: true });
    const { damage } = await admin.call('workload', { id: workloadId });
    expect(damage).toMatchObject({ pointId: suspect, files: 1 });
    const plan = await admin.call('planRestore', { body: { damagedIn: suspect, destination: { to: 'original' }, reason: '' } });
    expect(plan.items.map((i) => i.pick.path)).toEqual(['disks/system.raw']);
    await admin.call('liftSuspicion', { id: workloadId, body: { reason: 'it was us' } });
  });

  it('end where the policy keeps them no more, and are read by looking from then on', async () => {
    await admin.call('changePolicy', { id: policyId, body: { ...body, namesInside: false } });
    const third = await night();
    const found = await search('second.log');
    expect(found).toMatchObject({ rows: [{ stillThere: false, lastPointId: last }], notInside: 2 });
    expect((await tree(third, `${inside}/var/log`)).rows.map((r) => [r.name, r.versions])).toEqual([
      ['gate.log', 1],
      ['second.log', 1],
    ]);
    await admin.call('changePolicy', { id: policyId, body });
    await night();
    expect((await search('second.log')).rows).toMatchObject([{ stillThere: true, versions: 3 }]);
  });
});

import fs from 'node:fs';
import { afterAll, beforeAll, expect, it } from 'vitest';
import type { BodyInput } from '@lithodex/contract';
import { letGuestWrite, type PlatformService } from '@lithodex/standins';
import { Harness, policyFor, type Client } from '../support/harness';
import { buildLogger, soundDisks, startPlatform } from '../support/platform';

let h: Harness;
let admin: Client;
let service: PlatformService;
let targetId: string;

beforeAll(async () => {
  h = await Harness.start({ schedulerMs: 0 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin, 'spare'));
  const started = await startPlatform(`${h.folder}/platform`);
  ({ service } = started);
  await buildLogger(service, 'gate-01');
  await admin.call('addPlatform', { body: started.body });
}, 60_000);
afterAll(async () => {
  await h.stop();
  await service.stop();
});

const restored = async (more: Omit<BodyInput<'startRestore'>, 'reason'>) =>
  admin.ended((await admin.call('startRestore', { body: { reason: 'it is wanted', ...more } })).runId);
const picksOf = async (runId: number) => (await admin.call('undo', { id: runId })).rows.map(({ pointId, path }) => ({ pointId, path }));

async function protectedOnce(workloadId: number, name: string): Promise<string> {
  const { id } = await admin.call('addPolicy', { body: policyFor([workloadId], targetId, { name }) });
  await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
  return (await admin.call('workload', { id: workloadId })).pointList.at(-1)!.id;
}

it('takes back a restore of files that replaced something: what was there stands in a point that was taken first', async () => {
  const { source, workloadId } = await h.connect(admin, 'plans');
  fs.writeFileSync(`${source}/plan.txt`, 'as it was protected');
  fs.writeFileSync(`${source}/other.txt`, 'other');
  const pointId = await protectedOnce(workloadId, 'Plans');
  fs.writeFileSync(`${source}/plan.txt`, 'written since, and wanted after all');
  const body = { name: 'x', picks: [{ pointId, path: 'plan.txt' }], destination: { to: 'original' as const } };
  expect((await admin.call('planRestore', { body })).rescue).toBeNull();
  expect((await admin.call('planRestore', { body: { ...body, rule: 'replace' } })).rescue).toEqual({
    workload: 'plans',
    target: 'quay-disk',
  });
  const run = await restored({ ...body, rule: 'replace' });
  expect(run).toMatchObject({ state: 'done', after: { name: 'plans, before it is replaced' } });
  expect(fs.readFileSync(`${source}/plan.txt`, 'utf8')).toBe('as it was protected');
  const back = await picksOf(run.id);
  expect(back).toMatchObject([{ path: 'plan.txt' }]);
  expect((await restored({ picks: back, destination: { to: 'original' }, rule: 'replace', rescue: false })).state).toBe('done');
  expect(fs.readFileSync(`${source}/plan.txt`, 'utf8')).toBe('written since, and wanted after all');
  const without = await restored({ ...body, rule: 'replace', rescue: false });
  await expect(admin.call('undo', { id: without.id })).rejects.toMatchObject({ code: 'NOT_FOUND' });
  await expect((await h.as('clerk')).call('undo', { id: run.id })).rejects.toMatchObject({ code: 'NOT_FOUND' });
});

it('takes back a machine that was written over, its disks as they were', async () => {
  const id = (await admin.call('estate')).workloads.find((w) => w.name === 'gate-01')!.id;
  const pointId = await protectedOnce(id, 'Gates');
  await letGuestWrite(service.platform, 'gate-01', 'system', [{ path: '/etc/motd', content: Buffer.from('written since\n') }]);
  const since = soundDisks(service, 'gate-01');
  const run = await restored({ picks: [{ pointId, path: '' }], destination: { to: 'original' } });
  expect(run.state).toBe('done');
  expect(soundDisks(service, 'gate-01')).not.toEqual(since);
  const back = await restored({ picks: await picksOf(run.id), destination: { to: 'original' }, rescue: false });
  expect(back.state).toBe('done');
  expect(soundDisks(service, 'gate-01')).toEqual(since);
});

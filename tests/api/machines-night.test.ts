import { randomBytes } from 'node:crypto';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { platformFine, type PlatformService } from '@lithodex/standins';
import { Harness, policyFor, type Client } from '../support/harness';
import { machineOf, startPlatform } from '../support/platform';

let h: Harness;
let admin: Client;
let service: PlatformService;
const machines = Array.from({ length: 8 }, (_, i) => `gate-${i + 1}`);
const MiB = 1 << 20;

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 6000, movers: 2 });
  admin = await h.as('administrator');
  const started = await startPlatform(`${h.folder}/platform`);
  ({ service } = started);
  for (const name of machines) {
    const { id, disks } = service.platform.create(machineOf(name, { tags: ['gates'] }));
    service.platform.diskOf(id, disks[0]!.id).write(MiB, randomBytes(3 * MiB));
  }
  await h.connect(admin);
  await admin.call('addPlatform', { body: started.body });
}, 60_000);
afterAll(async () => {
  await h.stop();
  await service.stop();
});

it('two movers share a night of machines, and one takes over all that the other left when it is killed in the middle', async () => {
  const targetId = (await admin.call('listTargets')).rows[0]!.id;
  const { id } = await admin.call('addPolicy', { body: policyFor([], targetId, { rule: 'tag gates' }) });
  // slow enough that some are in the middle
  service.platform.switches = { ...platformFine, lineRate: 2 * MiB };
  const { runId } = await admin.call('runPolicy', { id, body: {} });
  const until = async (ready: (movers: Set<string>, done: number) => boolean) => {
    for (const end = Date.now() + 60_000; ;) {
      const { tasks } = await admin.call('getRun', { id: runId });
      const running = new Set(tasks.filter((t) => t.state === 'running').flatMap((t) => t.mover ?? []));
      if (ready(running, tasks.filter((t) => t.state === 'done').length)) return;
      if (Date.now() > end) throw new Error(`the movers do not share the work: ${tasks.map((t) => `${t.mover} ${t.state}`).join(', ')}`);
      await new Promise((resume) => setTimeout(resume, 30));
    }
  };
  await until((movers, done) => movers.size === 2 && done > 0);
  await h.killMover('mover-1');
  service.platform.switches = platformFine;
  const run = await admin.ended(runId);
  expect(run.tasks.map((t) => [t.workload.name, t.state])).toEqual(machines.map((name) => [name, 'done']));
  expect(run.tasks.some((t) => t.attempt > 1 && t.mover === 'mover-2')).toBe(true);
  const { workloads } = await admin.call('estate', { query: { show: 'protected' } });
  expect(workloads.map((w) => [w.name, w.points])).toEqual(machines.map((name) => [name, 1]));
  expect(service.platform.inventory().machines.flatMap((m) => m.snapshots)).toEqual([]);
});

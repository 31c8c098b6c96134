import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { PlatformService } from '@lithodex/standins';
import { Harness, policyFor, withRule, type Client } from '../support/harness';
import { buildLogger, startPlatform } from '../support/platform';

let h: Harness;
let admin: Client;
let service: PlatformService;
let files: number;
let machine: number;
let targetId: string;
let far: string;

const consequences = async (body: ReturnType<typeof policyFor>) => admin.call('consequences', { body: { id: null, body } });
const codes = async (body: ReturnType<typeof policyFor>) => (await consequences(body)).warnings.map((w) => w.code);
const told = async (body: ReturnType<typeof policyFor>, code: string) =>
  (await consequences(body)).warnings.find((w) => w.code === code)?.text;

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
  ({ targetId, workloadId: files } = await h.connect(admin));
  far = (
    await admin.call('addTarget', { body: { name: 'far', location: 'Lighthouse', place: { kind: 'folder', folder: `${h.folder}/far` } } })
  ).id;
  const { service: started, body } = await startPlatform(`${h.folder}/platform`);
  service = started;
  await buildLogger(service, 'lamp', { helper: false, running: true });
  await admin.call('addPlatform', { body });
  machine = (await admin.call('estate')).workloads.find((w) => w.name === 'lamp')!.id;
}, 60_000);
afterAll(async () => {
  await h.stop();
  await service.stop();
});

describe('before a policy is in force one is told', () => {
  it('which machines will not be quiet', async () => {
    expect(await told(policyFor([machine], targetId), 'NOT_QUIET')).toBe(
      'lamp has neither a helper nor an account inside, so its disks are taken as after a loss of power.',
    );
    expect(await codes(policyFor([files], targetId))).not.toContain('NOT_QUIET');
  });

  it('what takes more of a mover than it has', async () => {
    const { db } = h.server.deps;
    const hardware = { processors: 2, memory: 100_000, system: 'Linux' };
    await expect
      .poll(async () =>
        db('mover')
          .where({ name: 'mover-1' })
          .update({ hardware: JSON.stringify(hardware) }),
      )
      .toBe(1);
    expect(await told(policyFor([machine], targetId), 'MEMORY')).toMatch(
      /^lamp has a disk of \d+ MB, which takes about \d+\.?\d* kB of a mover's memory; the smallest that is there has 100 kB\.$/,
    );
    expect(await codes(policyFor([files], targetId))).not.toContain('MEMORY');
  });

  it('what finds no room at first, on each target that is written to', async () => {
    const { db } = h.server.deps;
    await db('target').where({ id: far }).update({ free: 1000 });
    const body = policyFor([machine], targetId);
    expect(await codes(body)).not.toContain('FIRST_ROOM');
    const [first] = body.rules;
    const both = { ...body, rules: [first!, { ...first!, no: 2, kind: 'full' as const, targetId: far }] };
    expect(await told(both, 'FIRST_ROOM')).toMatch(
      /^The first points of 1 workload may take \d+\.?\d* MB on far, which has 1\.00 kB free\.$/,
    );
  });

  it('that a first point would be long in coming', async () => {
    const day = new Date(Date.now() + 15 * 86_400_000).getUTCDate();
    const rare = policyFor([files], targetId, { schedule: { every: 'month', on: { day }, at: '12:00' }, zone: 'UTC', objectiveHours: 24 });
    expect(await told(rare, 'FIRST_POINT_LATE')).toMatch(
      /^1 workload has no point yet, and the first run is 1[3-7] days away\. Run it once/,
    );
    expect(await told(policyFor([files], targetId), 'FIRST_POINT_LATE')).toContain('no run is planned');
    expect(await codes(policyFor([files], targetId, { schedule: { every: 'day', at: '22:00' } }))).not.toContain('FIRST_POINT_LATE');
  });

  it('what it lacks to survive a loss', async () => {
    const plain = policyFor([files], targetId);
    expect((await consequences(plain)).spreadGaps).toEqual([
      '1 more copy',
      'another kind of media',
      'a place that is not known',
      'a locked copy',
    ]);
    const source = (await admin.call('workload', { id: files })).source.id;
    await h.server.deps.db('source').where({ id: source }).update({ location: 'Harbour' });
    await h.server.deps.events.emit('estate');
    const copied = withRule(plain, { copies: [{ targetId: far, keep: { by: 'days', days: 30 } }] });
    expect((await consequences(copied)).spreadGaps).toEqual(['another kind of media', 'a locked copy']);
  });
});

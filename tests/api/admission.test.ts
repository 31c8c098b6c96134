import { moverLanguage, type ClaimedTask } from '@lithodex/contract';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { Harness, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let mover: Client;
let places: readonly { sourceId: number; workloadId: number }[];
let targets: readonly string[];

beforeAll(async () => {
  h = await Harness.start({ claimWaitMs: 0, leaseMs: 60_000, movers: 0, schedulerMs: 0 });
  admin = await h.as('administrator');
  mover = await h.withToken('mover');
  h.startMover('mover-1');
  const near = await h.connect(admin, 'quay-1');
  const other = await h.connect(admin, 'quay-2');
  const body = { name: 'far', place: { kind: 'folder' as const, folder: `${h.folder}/far` } };
  targets = [near.targetId, (await admin.call('addTarget', { body })).id];
  await h.killMover('mover-1');
  const sourceOf = async (id: number) => (await admin.call('workload', { id })).source.id;
  places = await Promise.all([near, other].map(async ({ workloadId }) => ({ workloadId, sourceId: await sourceOf(workloadId) })));
});
afterAll(() => h.stop());
beforeEach(async () => {
  await h.server.deps.db('task').update({ state: 'stopped' });
  for (const { sourceId } of places) await admin.call('limitSource', { id: sourceId, body: { readers: null } });
  for (const id of targets) await admin.call('setLimits', { id, body: { writers: null, paces: [] } });
  await admin.call('limitAll', { body: { tasks: null } });
});

/** One waiting backup of each workload for each target. */
async function queueAll(): Promise<void> {
  for (const { workloadId } of places)
    for (const targetId of targets) await admin.call('protectOnce', { id: workloadId, body: { targetId, keep: { by: 'hand' } } });
}

/** What many movers get that ask at once. */
async function claimAtOnce(askers = 8): Promise<ClaimedTask[]> {
  const answers = await Promise.all(
    Array.from({ length: askers }, (_, i) =>
      mover.call('claim', { body: { mover: `mover ${i}`, speaks: moverLanguage } }).catch(() => ({ task: null })),
    ),
  );
  return answers.flatMap((a) => a.task ?? []);
}

/** What they get until there is no more for them. */
async function claimAll(): Promise<ClaimedTask[]> {
  const all: ClaimedTask[] = [];
  for (let idle = 0; idle < 2;) {
    const got = await claimAtOnce();
    all.push(...got);
    idle = got.length ? 0 : idle + 1;
  }
  return all;
}

const workloads = (tasks: readonly ClaimedTask[]) =>
  tasks.map((t) => (t.work.type === 'backup' ? Number(t.work.workload.id) : 0)).sort((a, b) => a - b);

describe('tasks are given out', () => {
  it('are given to who asks for them, whatever others look for at the same time', async () => {
    const asks = (name: string, follows: boolean) => mover.call('claim', { body: { mover: name, speaks: moverLanguage, follows } });
    const { workloadId } = places[0]!;
    for (let round = 0; round < 25; round++) {
      await admin.call('protectOnce', { id: workloadId, body: { targetId: targets[0]!, keep: { by: 'hand' } } });
      const others = Array.from({ length: 6 }, (_, i) => asks(`follower ${i}`, true));
      const { task } = await asks('mover-1', false);
      expect(task, `round ${round}`).not.toBeNull();
      expect((await Promise.all(others)).filter((o) => o.task)).toEqual([]);
      await h.server.deps.db('task').update({ state: 'stopped' });
    }
  });

  it('to all who ask while nothing is limited', async () => {
    await queueAll();
    expect(await claimAll()).toHaveLength(4);
  });

  it('no more of a source than may read it, whoever asks at the same moment', async () => {
    await admin.call('limitSource', { id: places[0]!.sourceId, body: { readers: 1 } });
    await queueAll();
    const [one, two] = places.map((p) => p.workloadId);
    expect(workloads(await claimAll())).toEqual([one, two, two]);
    expect((await admin.call('workload', { id: one! })).readers).toBe(1);
    await admin.call('limitSource', { id: places[0]!.sourceId, body: { readers: 2 } });
    expect(workloads(await claimAll())).toEqual([one]);
  });

  it('no more of a target than may write to it', async () => {
    await admin.call('setLimits', { id: targets[0]!, body: { writers: 1, paces: [] } });
    await queueAll();
    const at = (await claimAll()).map((t) => (t.work.type === 'backup' ? t.work.target.id : ''));
    expect(at.filter((id) => id === targets[0])).toHaveLength(1);
    expect(at.filter((id) => id === targets[1])).toHaveLength(2);
  });

  it('no more in all than the installation allows, but a restore waits for none of them', async () => {
    await admin.call('limitAll', { body: { tasks: 3 } });
    expect(await admin.call('limits')).toEqual({ tasks: 3 });
    await queueAll();
    expect(await claimAll()).toHaveLength(3);
    const { db } = h.server.deps;
    await db('task')
      .where({ state: 'waiting' })
      .update({ type: 'restore', work: JSON.stringify({ type: 'restore', picks: [], to: { kind: 'files' } }) });
    expect((await claimAll()).map((t) => t.work.type)).toEqual(['restore']);
  });

  it('to a mover of a place first what is read there, then the rest, and by age where nobody said a place', async () => {
    const { db } = h.server.deps;
    const known = { first_seen: 1, last_seen: 1, duties: '[]', hardware: '{}', latest: '{}' };
    await db('mover').insert([
      { name: 'by the sea', place: 'Lighthouse', ...known },
      { name: 'anywhere', place: '', ...known },
    ]);
    const [one, two] = places.map((p) => p.workloadId);
    await db('source').where({ id: places[0]!.sourceId }).update({ location: 'Server room' });
    await db('source').where({ id: places[1]!.sourceId }).update({ location: 'Lighthouse' });
    const claimed = async (name: string) => {
      const { task } = await mover.call('claim', { body: { mover: name, speaks: moverLanguage } });
      return task?.work.type === 'backup' ? Number(task.work.workload.id) : 0;
    };
    await queueAll();
    expect([await claimed('anywhere'), await claimed('by the sea'), await claimed('by the sea'), await claimed('by the sea')]).toEqual([
      one,
      two,
      two,
      one,
    ]);
    expect(await claimed('by the sea')).toBe(0);
  });

  it('by limits that only an administrator sets, and that make sense', async () => {
    const operator = await h.as('operator');
    const id = places[0]!.sourceId;
    await expect(operator.call('limitSource', { id, body: { readers: 1 } })).rejects.toMatchObject({ status: 403 });
    await expect(operator.call('limitAll', { body: { tasks: 1 } })).rejects.toMatchObject({ status: 403 });
    expect(await operator.call('limits')).toEqual({ tasks: null });
    await expect(admin.call('limitAll', { body: { tasks: 0 } })).rejects.toMatchObject({ status: 400 });
    await expect(admin.call('limitSource', { id: 4711, body: { readers: 1 } })).rejects.toMatchObject({ status: 404 });
    await expect(admin.call('limitSource', { id, body: { readers: -1 } })).rejects.toMatchObject({ status: 400 });
  });
});

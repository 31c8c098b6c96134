import { moverLanguage, type Work } from '@lithodex/contract';
import { issueToken, type Duty } from '@lithodex/server';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { Client, Harness } from '../support/harness';

let h: Harness;
let admin: Client;
let made = 0;
const disk = '00000000-0000-4000-8000-000000000001';
const cellar = '00000000-0000-4000-8000-000000000002';
const began = Date.now() - 3_600_000;

beforeAll(async () => {
  h = await Harness.start({ movers: 0, claimWaitMs: 0, schedulerMs: 0 });
  admin = await h.as('administrator');
  const { db } = h.server.deps;
  for (const [id, name, location] of [
    [disk, 'quay-disk', 'Harbour office'],
    [cellar, 'cellar', 'Lighthouse'],
  ])
    await db('target').insert({ id, name, folder: `/none/${name}`, location, created_at: began });
  await db('run').insert({ id: 1, kind: 'backup', started_by: 'hand', name: 'claims', person: '', state: 'running', queued_at: began });
  for (const [no, location] of [
    [1, 'Harbour office'],
    [2, 'Lighthouse'],
    [3, ''],
  ] as const) {
    await db('source').insert({
      id: no,
      name: `quay-${no}`,
      folder: Buffer.from(`/srv/quay-${no}`),
      location,
      cross_fs: false,
      created_at: began,
    });
    await db('workload').insert({ id: no, source_id: no, name: `quay-${no}`, created_at: began });
    const series = { workload_id: no, target_id: disk, method: 'files', part: '', last_ordinal: 0 };
    await db('series').insert({ no, id: `00000000-0000-4000-8000-00000000010${no}`, ...series });
  }
});
afterAll(() => h.stop());
beforeEach(async () => {
  const { db } = h.server.deps;
  await db('task').delete();
  await db('source').update({ read_by: null, kind: 'files' });
});

interface Waiting {
  readonly type?: Work['type'];
  readonly workload?: number;
  readonly target?: string;
  readonly priority?: number;
  readonly state?: string;
  /** Minutes after the first. */
  readonly after?: number;
}

/** Puts a task into the queue. */
async function queued({
  type = 'backup',
  workload = 1,
  target = disk,
  priority = 1,
  state = 'waiting',
  after = 0,
}: Waiting = {}): Promise<string> {
  const id = `00000000-0000-4000-9000-${String(++made).padStart(12, '0')}`;
  const aboutTarget = ['verify', 'prune', 'adopt'].includes(type);
  const plans: Partial<Record<Work['type'], object>> = {
    backup: { kind: 'incremental', include: [], exclude: [], lockDays: null },
    verify: { type, part: null },
    prune: { type, trial: false },
    adopt: { type },
    expire: { points: [] },
    copy: { points: [], alike: null },
  };
  await h.server.deps.db('task').insert({
    id,
    run_id: 1,
    workload_id: aboutTarget ? null : workload,
    series_no: aboutTarget ? null : workload,
    type,
    state,
    priority,
    queued_at: began + after * 60_000,
    work: JSON.stringify({ targetId: target, ...plans[type] }),
  });
  return id;
}

interface Played {
  readonly name: string;
  readonly claims: (receives?: boolean) => Promise<{ id: string; work: Work } | null>;
  readonly client: Client;
}

/** A mover that is played, with a token of its own. */
async function mover(name: string, bounds: { readonly duties?: Duty[]; readonly systems?: number[] | null } = {}): Promise<Played> {
  const { duties = ['capture', 'keep', 'prune'], systems = null } = bounds;
  const token = await issueToken(h.server.deps, `${name} ${++made}`, 'mover', 'setup', { duties, systems, mover: name });
  const client = new Client(() => h.base, token);
  const claims = async (receives = false) =>
    (await client.call('claim', { body: { mover: name, speaks: moverLanguage, receives } })).task as { id: string; work: Work } | null;
  return { name, client, claims };
}

/** It asks for questions, so that it counts as present. */
async function isThere({ name, client }: Played): Promise<void> {
  const asked = client.call('questions', { body: { mover: name, speaks: moverLanguage } }).catch(() => undefined);
  await expect.poll(() => h.server.deps.movers.present()).toContain(name);
  void asked;
}

describe('what a mover is given', () => {
  it('goes by priority, then by age', async () => {
    const one = await mover('one');
    const [late, urgent, early] = [
      await queued({ after: 2 }),
      await queued({ workload: 2, priority: 0, after: 3 }),
      await queued({ workload: 3, after: 1 }),
    ];
    expect([(await one.claims())?.id, (await one.claims())?.id, (await one.claims())?.id]).toEqual([urgent, early, late]);
    expect(await one.claims()).toBeNull();
  });

  it('is near it first, then what nobody placed, then the rest; of care the place of the target counts', async () => {
    const far = await mover('far');
    await far.client.call('beat', {
      body: {
        mover: 'far',
        hardware: { processors: 1, memory: 1, system: '' },
        sample: { processor: 0, memory: 0, received: null, sent: null, read: null, written: null },
      },
    });
    await admin.call('changeMover', { id: 'far', body: { drained: false, tasks: 2, place: 'Lighthouse' } });
    const [office, unplaced, lighthouse] = [
      await queued({ workload: 1 }),
      await queued({ workload: 3, after: 1 }),
      await queued({ workload: 2, after: 2 }),
    ];
    const care = await queued({ type: 'prune', target: cellar, after: 3 });
    const order = [];
    for (let i = 0; i < 4; i++) order.push((await far.claims())?.id);
    expect(order).toEqual([lighthouse, care, unplaced, office]);
    await admin.call('changeMover', { id: 'far', body: { drained: true, tasks: 2, place: '' } });
    await queued();
    expect(await far.claims()).toBeNull();
  });

  it('never changes a series that is being changed, and may read it', async () => {
    const one = await mover('one');
    await queued({ state: 'running' });
    await queued({ after: 1 });
    await queued({ type: 'expire', after: 2 });
    const copy = await queued({ type: 'copy', after: 3 });
    expect((await one.claims())?.id).toBe(copy);
    expect(await one.claims()).toBeNull();
  });

  it('takes no points from a target that is being verified, nor adds any where found ones are fitted in', async () => {
    const one = await mover('one');
    await queued({ type: 'verify', state: 'running' });
    await queued({ type: 'expire' });
    expect(await one.claims()).toBeNull();
    await h.server.deps.db('task').delete();
    await queued({ type: 'adopt', state: 'running' });
    await queued({});
    expect(await one.claims()).toBeNull();
    const elsewhere = await queued({ workload: 2, target: cellar });
    expect((await one.claims())?.id).toBe(elsewhere);
  });

  it('carries what opens a system only to movers that were given it', async () => {
    await h.server.deps.db('source').where({ id: 2 }).update({ kind: 'database' });
    const [others, own] = [await mover('others', { systems: [1] }), await mover('own', { systems: [2] })];
    await queued({ workload: 2, type: 'backup' });
    expect(await others.claims()).toBeNull();
    await h.server.deps.db('workload').where({ id: 2 }).update({ kind: 'files' });
    expect((await own.claims())?.work.type).toBe('backup');
  });

  it('is read by the mover that was named, and by no other', async () => {
    await h.server.deps.db('source').where({ id: 1 }).update({ read_by: 'named' });
    const [named, other] = [await mover('named'), await mover('other')];
    await isThere(named);
    const id = await queued();
    expect(await other.claims(true)).toBeNull();
    const given = await named.claims();
    expect([given?.id, (given?.work as { from: { kind: string } }).from.kind]).toEqual([id, 'files']);
  });

  it('is given to one that keeps and can be reached, where the named one only reads', async () => {
    await h.server.deps.db('source').where({ id: 1 }).update({ read_by: 'reader' });
    const [reader, keeps] = [await mover('reader', { duties: ['capture'] }), await mover('keeps', { systems: [] })];
    const id = await queued();
    // nobody knows yet that it is there
    expect(await keeps.claims(true)).toBeNull();
    await isThere(reader);
    expect(await keeps.claims(false)).toBeNull();
    expect(await reader.claims(true)).toBeNull();
    const given = await keeps.claims(true);
    expect([given?.id, (given?.work as { from: object }).from]).toEqual([id, { kind: 'afar', mover: 'reader', of: 'files' }]);
  });
});

import fs from 'node:fs';
import { moverLanguage, type BodyInput, type ClaimedTask, type LiveEvent } from '@lithodex/contract';
import { DateTime } from 'luxon';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let mover: Client;

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 4000, movers: 0 });
  admin = await h.withToken('administrator');
  mover = await h.withToken('mover');
});
afterAll(() => h.stop());

const facts = { kind: 'file', size: 5, mtimeNs: '1', mode: 420, uid: 0, gid: 0, items: 0, flags: 0, content: '' };
const totals = {
  moment: Date.now(),
  kind: 'full' as const,
  previous: null,
  base: null,
  items: 1,
  files: 1,
  bytes: 5,
  read: 5,
  fresh: 5,
  stored: 5,
  warnings: 0,
  complete: true,
  lockedUntil: null,
  changes: { before: 0, added: 1, changed: 0, removed: 0, random: 0, turnedRandom: 0, renamed: 0 },
};

/** Queues a backup of a workload and claims it by hand, with the real mover away. */
async function claimByHand(): Promise<{ task: ClaimedTask; runId: number; workloadId: number }> {
  h.startMover('mover-1');
  const { workloadId, targetId } = await h.connect(admin, `quay-${Date.now()}`);
  await h.killMover('mover-1');
  const { id } = await admin.call('addPolicy', { body: policyFor([workloadId], targetId, { name: `p ${Date.now()}` }) });
  const { runId } = await admin.call('runPolicy', { id, body: {} });
  const task = await claimed('by hand');
  return { task, runId, workloadId };
}

const lease = (task: ClaimedTask, ms: number) =>
  h.server.deps
    .db('task')
    .where({ id: task.id })
    .update({ lease_until: Date.now() + ms });

/** The next task there is, held for as long as a test may take. */
async function claimed(by: string): Promise<ClaimedTask> {
  for (;;) {
    const { task } = await mover.call('claim', { body: { mover: by, speaks: moverLanguage } });
    if (!task) continue;
    await lease(task, 120_000);
    return task;
  }
}

/** The lease of a task ends, as that of a mover that went silent does. */
const fallsSilent = (task: ClaimedTask) => lease(task, -1);

describe('the mover protocol', () => {
  it('takes nothing away because the server itself stood still for longer than a lease', async () => {
    const { task, runId } = await claimByHand();
    await lease(task, 2000);
    Atomics.wait(new Int32Array(new SharedArrayBuffer(4)), 0, 0, 3000);
    await h.server.scheduler.tick();
    expect((await admin.call('getRun', { id: runId })).state).toBe('running');
    await mover.call('renew', { id: task.id, body: { attempt: task.attempt, progress: null, logSeq: 0, log: [] } });
    await admin.call('stopRun', { id: runId });
    expect((await admin.ended(runId)).state).toBe('stopped');
  });

  it('shows nothing of a point before it is committed, loads batches once, and takes back what an attempt left behind', async () => {
    const { task, runId, workloadId } = await claimByHand();
    const { db } = h.server.deps;
    const items = async () =>
      Number(
        (
          await db('item')
            .join('series', 'series.no', 'item.series_no')
            .where('series.workload_id', workloadId)
            .count({ n: '*' })
            .first<{ n: number }>()
        ).n,
      );
    const batch = { attempt: task.attempt, seq: 0, changes: [{ change: 'added' as const, folder: '', name: 'a', facts }] };
    await mover.call('sendItems', { id: task.id, body: batch });
    await mover.call('sendItems', { id: task.id, body: batch });
    expect(await items()).toBe(1);
    expect((await admin.call('workload', { id: workloadId })).points).toBe(0);
    expect((await admin.call('search', { query: { q: 'aa', workload: workloadId } })).rows).toEqual([]);
    await fallsSilent(task);
    const again = await claimed('another');
    expect([again.id, again.attempt]).toEqual([task.id, task.attempt + 1]);
    expect(await items()).toBe(0);
    await expect(mover.call('sendItems', { id: task.id, body: batch })).rejects.toMatchObject({ code: 'LEASE_LOST' });
    await expect(
      mover.call('commitPoint', { id: task.id, body: { attempt: task.attempt, pointId: task.id, point: totals } }),
    ).rejects.toMatchObject({
      code: 'LEASE_LOST',
    });
    const attempt = again.attempt;
    await mover.call('sendItems', { id: task.id, body: { ...batch, attempt } });
    await mover.call('commitPoint', { id: task.id, body: { attempt, pointId: task.id, point: totals } });
    await mover.call('commitPoint', { id: task.id, body: { attempt, pointId: task.id, point: totals } });
    const counts = { items: 1, files: 1, bytes: 5, read: 5, stored: 5, warnings: 0, failed: 0, missing: 0 };
    await mover.call('finishTask', {
      id: task.id,
      body: { attempt, outcome: 'done', cause: null, counts, phases: [], measured: { ms: 1, bytes: 5 } },
    });
    expect((await admin.call('workload', { id: workloadId })).points).toBe(1);
    expect((await admin.call('getRun', { id: runId })).state).toBe('done');
  });

  it('is told how fast it may write to its target at this hour', async () => {
    const { task } = await claimByHand();
    const [target] = (await admin.call('listTargets')).rows;
    const at = (hours: number) => DateTime.now().setZone('Europe/Oslo').plus({ hours }).toFormat('HH:mm');
    const pace = async (paces: BodyInput<'setLimits'>['paces']) => {
      await admin.call('setLimits', { id: target!.id, body: { writers: null, paces } });
      return (await mover.call('renew', { id: task.id, body: { attempt: task.attempt, progress: null, logSeq: 0, log: [] } })).pace;
    };
    expect(task.pace).toBeNull();
    const always = { from: '00:00', to: '00:00', perSecond: 600_000 };
    expect(await pace([always])).toBe(600_000);
    expect(await pace([always, { from: at(-2), to: at(2), perSecond: 200_000 }])).toBe(200_000);
    expect(await pace([{ from: at(2), to: at(4), perSecond: 200_000 }])).toBeNull();
    expect(await pace([])).toBeNull();
    const counts = { items: 0, files: 0, bytes: 0, read: 0, stored: 0, warnings: 0, failed: 0, missing: 0 };
    const end = { outcome: 'stopped' as const, cause: null, counts, phases: [], measured: { ms: 1, bytes: 0 } };
    await mover.call('finishTask', { id: task.id, body: { attempt: task.attempt, ...end } });
  });

  it('keeps log lines once though they are sent twice, and tells the mover to stop', async () => {
    const { task, runId } = await claimByHand();
    const line = { level: 'warning' as const, code: 'UNREADABLE', path: 'a\xff\n', message: 'could not be read' };
    const renewal = { attempt: task.attempt, progress: null, logSeq: 0, log: [line] };
    expect(await mover.call('renew', { id: task.id, body: renewal })).toEqual({ stop: false, pace: null, wish: null });
    await admin.call('stopRun', { id: runId });
    expect(await mover.call('renew', { id: task.id, body: renewal })).toEqual({ stop: true, pace: null, wish: null });
    const { rows } = await admin.call('runLog', { id: runId });
    expect(rows.map((r) => r.path)).toEqual(['a%FF%0A']);
    const text = await (await admin.fetch('runLogFile', { id: runId })).text();
    expect(text).toContain('could not be read');
    const counts = { items: 0, files: 0, bytes: 0, read: 0, stored: 0, warnings: 0, failed: 0, missing: 0 };
    await mover.call('finishTask', {
      id: task.id,
      body: {
        attempt: task.attempt,
        outcome: 'stopped',
        cause: { code: 'STOPPED', message: 'A person stopped it.', remedy: '' },
        counts,
        phases: [],
        measured: { ms: 0, bytes: 0 },
      },
    });
    expect((await admin.call('getRun', { id: runId })).state).toBe('stopped');
    await expect(admin.call('stopRun', { id: runId })).rejects.toMatchObject({ code: 'NOT_NOW' });
  });

  it('ends a task whose mover went silent after the point was committed, and leaves its catalog whole', async () => {
    const { task, runId, workloadId } = await claimByHand();
    const { attempt } = task;
    await mover.call('sendItems', {
      id: task.id,
      body: { attempt, seq: 0, changes: [{ change: 'added', folder: '', name: 'kept.txt', facts }] },
    });
    await mover.call('commitPoint', { id: task.id, body: { attempt, pointId: task.id, point: totals } });
    await fallsSilent(task);
    expect(await admin.ended(runId)).toMatchObject({ state: 'done', counts: { items: 1, stored: 5 } });
    const left = await h.server.deps.db('task').where({ id: task.id }).first<{ state: string }>();
    expect(left?.state).toBe('done');
    const { pointList } = await admin.call('workload', { id: workloadId });
    expect((await admin.call('tree', { id: pointList[0]!.id })).rows.map((r) => r.name)).toEqual(['kept.txt']);
  });

  it('lets a task fail with its cause when every mover that takes it goes silent', async () => {
    const { task, runId } = await claimByHand();
    await h.server.deps.db('task').where({ id: task.id }).update({ attempt: 5 });
    await fallsSilent(task);
    expect(await admin.ended(runId)).toMatchObject({ state: 'failed', cause: { code: 'MOVER_LOST' } });
  });

  it('says that no mover answers, instead of waiting for ever', async () => {
    await mover.call('answer', { id: '00000000-0000-4000-8000-000000000000', body: { ok: true, answer: null } });
    await new Promise((resume) => setTimeout(resume, 100));
    const refused = admin.call('testSource', { body: { name: 'x', folder: '/tmp' } }).then(
      () => 'answered',
      (e: unknown) => (e as { code: string }).code,
    );
    h.startMover('mover-2');
    expect(['answered', 'MOVER_ABSENT']).toContain(await refused);
  });
});

describe('two movers', () => {
  it('share the work, and one takes over when the other is killed in the middle', async () => {
    h.startMover('mover-3');
    await h.moverReady();
    const workloads: number[] = [];
    let target = '';
    for (let w = 0; w < 4; w++) {
      const c = await h.connect(admin, `shared-${w}`);
      for (let i = 0; i < 400; i++) fs.writeFileSync(`${c.source}/file-${i}`, `content ${w} ${i} `.repeat(50));
      workloads.push(c.workloadId);
      target = c.targetId;
    }
    const { id } = await admin.call('addPolicy', { body: policyFor(workloads, target, { name: 'Shared' }) });
    const { runId } = await admin.call('runPolicy', { id, body: {} });
    await new Promise((resume) => setTimeout(resume, 120));
    await h.killMover('mover-3');
    const run = await admin.ended(runId);
    expect(run.tasks.map((t) => t.state)).toEqual(['done', 'done', 'done', 'done']);
    for (const w of workloads) expect(await admin.call('workload', { id: w })).toMatchObject({ points: 1, newestPoint: { items: 400 } });
  });
});

describe('live changes', () => {
  it('go on after a lost connection with what was missed', async () => {
    const token = await h.withToken('auditor');
    const connect = async (lastId?: string) => {
      const stop = new AbortController();
      const response = await fetch(`${h.base}/api/v1/events`, {
        headers: {
          ...(lastId !== undefined && { 'last-event-id': lastId }),
          authorization: `Bearer ${token.token}`,
        },
        signal: stop.signal,
      });
      return { reader: response.body!.getReader(), stop };
    };
    const heard = async ({ reader, stop }: Awaited<ReturnType<typeof connect>>, enough: number) => {
      const seen: LiveEvent[] = [];
      for (let text = ''; seen.length < enough;) {
        const { value, done } = await reader.read();
        if (done) break;
        text += Buffer.from(value).toString();
        seen.splice(0, seen.length, ...[...text.matchAll(/data: (.*)\n\n/g)].map((m) => JSON.parse(m[1]!) as LiveEvent));
      }
      stop.abort();
      return seen;
    };
    await h.server.deps.events.emit('estate', { workloadId: 7 });
    const { id } = await h.server.deps.db('event').max({ id: 'id' }).first<{ id: number }>();
    await h.server.deps.events.emit('policy');
    await h.server.deps.events.emit('run', { runId: 9 });
    const missed = await heard(await connect(String(id)), 2);
    expect(missed.map((e) => e.kind)).toEqual(['policy', 'run']);
    expect(missed[0]!.id).toBe(id + 1);
    const fresh = await connect();
    await h.server.deps.events.emit('point', { workloadId: 3 });
    expect((await heard(fresh, 1)).map((e) => e.kind)).toEqual(['point']);
  });
});

describe('lists', () => {
  it('come in pages that fit together, sorted and filtered as asked', async () => {
    const all = (await admin.call('listRuns', { query: { limit: 500 } })).rows.map((r) => r.id);
    const paged: number[] = [];
    for (let cursor: string | undefined; ;) {
      const page = await admin.call('listRuns', { query: { limit: 2, cursor } });
      paged.push(...page.rows.map((r) => r.id));
      if (!page.next) break;
      cursor = page.next;
    }
    expect(paged).toEqual(all);
    expect((await admin.call('listRuns', { query: { sort: 'id' } })).rows.map((r) => r.id)).toEqual([...all].reverse());
    await expect(admin.call('listRuns', { query: { sort: 'password' } })).rejects.toMatchObject({ code: 'INVALID' });
    expect((await admin.call('listRuns', { query: { q: 'shared-2' } })).rows).toHaveLength(1);
    expect((await admin.call('listRuns', { query: { from: Date.now() + 1000 } })).total).toBe(0);
    expect((await admin.call('listRuns', { query: { q: "'; DROP TABLE run; --" } })).total).toBe(0);
  });

  it('walk a large folder page by page', async () => {
    const { workloads } = await admin.call('estate', { query: { q: 'shared-1' } });
    const point = workloads[0]!.newestPoint!.id;
    const names: string[] = [];
    for (let cursor: string | undefined; ;) {
      const page = await admin.call('tree', { id: point, query: { limit: 90, cursor } });
      names.push(...page.rows.map((r) => r.name));
      if (!page.next) break;
      cursor = page.next;
    }
    expect(names).toHaveLength(400);
    expect(new Set(names).size).toBe(400);
    expect(names).toEqual([...names].sort());
  });
});

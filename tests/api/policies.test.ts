import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { DateTime } from 'luxon';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client, withRule } from '../support/harness';

const zone = 'Europe/Oslo';
const day = 86_400_000;
let h: Harness;
let admin: Client;
/** A clock the test turns. */
const clock = { at: DateTime.fromISO('2026-10-20T12:00', { zone }).toMillis(), now: () => clock.at };
const turnTo = (iso: string) => {
  clock.at = DateTime.fromISO(iso, { zone }).toMillis();
};

beforeAll(async () => {
  h = await Harness.start({ clock, leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
});
afterAll(() => h.stop());

describe('a policy through the nights', () => {
  let workloadId: number;
  let source: string;
  let targetId: string;
  let policyId: number;

  it('shows its consequences before it is in force', async () => {
    ({ workloadId, source, targetId } = await h.connect(admin));
    for (let i = 0; i < 40; i++) fs.writeFileSync(`${source}/chart-${i}.txt`, `soundings ${i} `.repeat(200));
    const body = policyFor([workloadId], targetId, {
      schedule: { every: 'day', at: '22:00' },
      keep: { by: 'points', points: 5 },
      exclude: ['*.tmp'],
      changeLimit: 50,
    });
    const c = await admin.call('consequences', { body: { id: null, body } });
    expect(c.matches).toMatchObject([{ id: workloadId, why: 'chosen by name' }]);
    expect(c.settled).toMatchObject({ points: 5, furthestDays: 5 });
    expect(c.nextRuns.map((t) => DateTime.fromMillis(t, { zone }).toFormat('dd HH:mm'))).toEqual([
      '20 22:00',
      '21 22:00',
      '22 22:00',
      '23 22:00',
      '24 22:00',
    ]);
    expect(c.leftOut).toEqual([{ path: '*.tmp', why: 'left out by this policy' }]);
    const around = await admin.call('addSource', { body: { name: 'everything', folder: h.folder } });
    const wide = await admin.call('consequences', { body: { id: null, body: { ...body, workloads: [around.workloadId] } } });
    expect(wide.leftOut).toContainEqual({ path: `${h.folder}/store`, why: 'the folder of target quay-disk, left out by itself' });
    await admin.call('removeSource', { id: around.id });
    const late = await admin.call('consequences', {
      body: { id: null, body: { ...withRule(body, { schedule: { every: 'week', days: [1], at: '22:00' } }), workloads: [] } },
    });
    expect(late.warnings.map((w) => w.code)).toEqual(expect.arrayContaining(['MATCHES_NOTHING', 'OBJECTIVE_MISSED']));
    policyId = (await admin.call('addPolicy', { body })).id;
    const { rows } = await admin.call('policyVersions', { id: policyId });
    expect(rows).toMatchObject([{ no: 1, at: clock.at, by: 'administrator', body: { name: body.name, rules: body.rules } }]);
  });

  it('runs when it is due, once, and catches up one missed time, also over the change of the clock', async () => {
    await h.round();
    expect((await admin.call('listRuns')).total).toBe(0);
    turnTo('2026-10-20T22:00:30');
    await h.round();
    await h.round();
    expect((await admin.call('listRuns')).total).toBe(1);
    turnTo('2026-10-26T08:00');
    await h.round();
    const { rows } = await admin.call('listRuns');
    expect(rows).toHaveLength(2);
    expect(rows[0]).toMatchObject({ trigger: 'schedule', state: 'done', policy: { id: policyId } });
    expect((await admin.call('watch')).facts.oldestNewest).toMatchObject({ late: false });
  });

  it('keeps as many points as it says, lets the oldest go, from the catalog and from the target', async () => {
    for (let night = 26; night <= 31; night++) {
      fs.writeFileSync(`${source}/log-${night}.txt`, String(night));
      turnTo(`2026-10-${night}T22:01`);
      await h.round();
    }
    const { pointList } = await admin.call('workload', { id: workloadId });
    expect(pointList.map((p) => DateTime.fromMillis(p.moment, { zone }).toFormat('dd'))).toEqual(['27', '28', '29', '30', '31']);
    const series = fs.readdirSync(`${h.folder}/store/roots`).find((n) => !n.endsWith('.json'))!;
    expect(fs.readdirSync(`${h.folder}/store/roots/${series}`).sort()).toEqual(pointList.map((p) => p.id).sort());
    for (const p of pointList)
      expect((await admin.call('tree', { id: p.id })).rows.filter((r) => r.name.startsWith('log-'))).toHaveLength(
        Number(DateTime.fromMillis(p.moment, { zone }).toFormat('dd')) - 25,
      );
    const { n } = await h.server.deps
      .db('item')
      .where('to_ord', '<=', 3 * 1024)
      .count({ n: '*' })
      .first<{ n: number }>();
    expect(Number(n)).toBe(0);
  });

  it('shows what a shorter retention would delete, and deletes it only when it is put in force', async () => {
    const { body } = await admin.call('getPolicy', { id: policyId });
    const shorter = withRule(body, { keep: { by: 'points', points: 2 } });
    const c = await admin.call('consequences', { body: { id: policyId, body: shorter } });
    expect(c.deletes).toMatchObject({ points: 3, workloads: ['quay-1'] });
    expect((await admin.call('workload', { id: workloadId })).points).toBe(5);
    expect(c.secondPerson).toBe('3 copies of points deleted at once, 2 copies kept for less long than promised');
    const asked = await admin.call('changePolicy', { id: policyId, body: shorter });
    expect((await admin.call('workload', { id: workloadId })).points).toBe(5);
    expect((await admin.call('policyVersions', { id: policyId })).rows).toHaveLength(1);
    await h.agree(asked);
    expect((await admin.call('workload', { id: workloadId })).points).toBe(2);
    const { rows } = await admin.call('policyVersions', { id: policyId });
    expect(rows.map((v) => [v.no, v.body.rules])).toEqual([
      [2, shorter.rules],
      [1, body.rules],
    ]);
  });

  it('keeps a held point and an on-demand point beyond the policy', async () => {
    const first = (await admin.call('workload', { id: workloadId })).pointList[0]!;
    await admin.call('holdPoint', { id: first.id, body: { reason: 'evidence' } });
    clock.at += 3_600_000;
    await admin.call('protectOnce', { id: workloadId, body: { keep: { by: 'days', days: 3 }, note: 'before the upgrade' } });
    await h.round();
    for (const night of ['01', '02', '03']) {
      turnTo(`2026-11-${night}T22:01`);
      await h.round();
    }
    const { pointList } = await admin.call('workload', { id: workloadId });
    expect(pointList.map((p) => [p.held, p.copies[0]!.keepWhy.includes('3 days')])).toEqual([
      [true, false],
      [false, true],
      [false, false],
      [false, false],
    ]);
    await h.agree(await admin.call('releasePoint', { id: first.id }));
    clock.at += 10 * day;
    turnTo('2026-11-04T22:01');
    await h.round();
    expect((await admin.call('workload', { id: workloadId })).pointList.some((p) => p.id === first.id)).toBe(false);
  });

  it('takes a point that looks encrypted but holds it, stops expiry, and brings each damaged file back', async () => {
    const good = Object.fromEntries(fs.readdirSync(source).map((n) => [n, fs.readFileSync(`${source}/${n}`, 'utf8')]));
    for (const name of fs.readdirSync(source)) {
      fs.writeFileSync(`${source}/${name}.krx`, randomBytes(3000));
      fs.rmSync(`${source}/${name}`);
    }
    turnTo('2026-11-05T22:01');
    await h.round();
    turnTo('2026-11-06T22:01');
    await h.round();
    const w = await admin.call('workload', { id: workloadId });
    expect(w).toMatchObject({ coverage: 'suspect', frozen: true });
    const suspect = w.pointList.find((p) => p.suspect)!;
    expect(suspect.reasons.join(' ')).toMatch(/have a twin that looks random.*changed or gone/);
    expect(w.pointList.filter((p) => !p.suspect).length).toBeGreaterThanOrEqual(2);
    expect(w.damage).toMatchObject({ pointId: suspect.id, files: Object.keys(good).length });
    const watch = await admin.call('watch');
    expect(watch.matters[0]).toMatchObject({ level: 'fault', title: 'quay-1 looks encrypted' });
    const body = { damagedIn: suspect.id, destination: { to: 'original' as const }, reason: 'undo the attack' };
    expect((await admin.call('planRestore', { body })).total.picks).toBe(Object.keys(good).length);
    const run = await admin.ended((await admin.call('startRestore', { body })).runId);
    expect(run.state).toBe('done');
    for (const [name, text] of Object.entries(good)) expect(fs.readFileSync(`${source}/${name}`, 'utf8')).toBe(text);
    await admin.call('liftSuspicion', { id: workloadId, body: { reason: 'cleaned up' } });
    expect((await admin.call('workload', { id: workloadId })).frozen).toBe(false);
  });

  it('fails with a cause and a remedy when the source or the target is away, and works again afterwards', async () => {
    fs.renameSync(source, `${source}.away`);
    const failed = await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
    expect(failed).toMatchObject({ state: 'failed', cause: { code: 'SOURCE_VANISHED' } });
    fs.renameSync(`${source}.away`, source);
    fs.renameSync(`${h.folder}/store`, `${h.folder}/store.away`);
    const unplugged = await admin.ended((await admin.call('retryRun', { id: failed.id })).runId);
    expect(unplugged).toMatchObject({ state: 'failed', cause: { code: 'TARGET_MISSING' }, trigger: 'retry' });
    fs.renameSync(`${h.folder}/store.away`, `${h.folder}/store`);
    expect((await admin.ended((await admin.call('retryRun', { id: unplugged.id })).runId)).state).toBe('done');
    await expect(admin.call('retryRun', { id: 1 })).rejects.toMatchObject({ code: 'NOT_NOW' });
  });

  it('tries without moving anything', async () => {
    const before = (await admin.call('workload', { id: workloadId })).points;
    const run = await admin.ended((await admin.call('runPolicy', { id: policyId, body: { trial: true } })).runId);
    expect(run).toMatchObject({ kind: 'trial', state: 'done' });
    expect((await admin.call('workload', { id: workloadId })).points).toBe(before);
    expect((await admin.call('runLog', { id: run.id })).rows.some((l) => l.message.includes('nothing was moved'))).toBe(true);
  });

  it('picks by tag at every run, and the estate can be read as of a moment', async () => {
    const other = await h.connect(admin, 'quay-2');
    await admin.call('addPolicy', { body: policyFor([], targetId, { name: 'By tag', tags: ['pilots'] }) });
    const untagged = clock.at;
    clock.at += day;
    await admin.call('tagWorkload', { id: other.workloadId, body: { tags: ['pilots'] } });
    clock.at += day;
    const now = await admin.call('estate');
    expect(now.workloads.find((w) => w.name === 'quay-2')).toMatchObject({
      tags: ['pilots'],
      coverage: 'matched',
      policies: [{ name: 'By tag' }],
    });
    const then = await admin.call('estate', { query: { at: untagged } });
    expect(then.workloads.find((w) => w.name === 'quay-2')).toMatchObject({ tags: [], coverage: 'none' });
    expect(now.workloads[0]).toMatchObject({ coverage: 'matched' });
  });

  it('ends, and leaves its points', async () => {
    await admin.call('removePolicy', { id: policyId });
    await expect(admin.call('getPolicy', { id: policyId })).rejects.toMatchObject({ code: 'NOT_FOUND' });
    expect((await admin.call('workload', { id: workloadId })).points).toBeGreaterThan(0);
  });
});

describe('sources and targets', () => {
  it('are tested before they are saved, and the test says what is missing and why it matters', async () => {
    await expect(admin.call('addSource', { body: { name: 'none', folder: '/does/not/exist' } })).rejects.toMatchObject({
      code: 'CONNECTION_FAULTY',
    });
    const folder = `${h.folder}/partly`;
    fs.mkdirSync(`${folder}/closed`, { recursive: true });
    fs.chmodSync(`${folder}/closed`, 0o700);
    const test = await admin.call('testSource', { body: { name: 'partly', folder, readAs: 'nobody' } });
    expect(test).toMatchObject({
      ok: true,
      findings: [{ level: 'warning', path: 'closed', neededFor: expect.stringContaining('protect') as string }],
    });
    await expect(
      admin.call('addTarget', { body: { name: 'again', place: { kind: 'folder', folder: `${h.folder}/store` } } }),
    ).rejects.toMatchObject({
      code: 'NAME_TAKEN',
    });
    await expect(admin.call('addTarget', { body: { name: 'full', place: { kind: 'folder', folder } } })).rejects.toMatchObject({
      code: 'TARGET_FAULTY',
    });
  });

  it('can be looked into live, with what is left out', async () => {
    const { workloads } = await admin.call('estate');
    const quay = workloads.find((w) => w.name === 'quay-1')!;
    fs.mkdirSync(`${h.folder}/quay-1/sub`);
    const { rows } = await admin.call('discover', { id: quay.source.id });
    expect(rows[0]).toMatchObject({ name: 'sub', kind: 'folder', readable: true });
    await expect(admin.call('removeSource', { id: quay.source.id })).rejects.toMatchObject({ code: 'IN_USE' });
  });

  it('give a key envelope, wrapped by the passphrase', async () => {
    const { rows } = await admin.call('listTargets');
    expect(rows[0]).toMatchObject({ name: 'quay-disk', trouble: null });
    const envelope = await admin.call('envelope', { id: rows[0]!.id, body: { passphrase: 'a long enough passphrase' } });
    expect(JSON.parse(envelope.content)).toMatchObject({ format: 'lithodex-key-envelope', slot: { kind: 'passphrase' } });
  });
});

import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

const passphrase = 'a lantern at the end of the quay';
const day = 86_400_000;
const clock = { at: Date.parse('2026-10-01T20:00:00Z'), now: () => clock.at };
let first: Harness;
let second: Harness;
let admin: Client;
let heir: Client;
let source: string;
let envelope: string;
let workloadId: number;
let targetId: string;
let policyId: number;

beforeAll(async () => {
  first = await Harness.start({ clock, leaseMs: 20_000, schedulerMs: 0 });
  admin = await first.as('administrator');
  ({ source, workloadId, targetId } = await first.connect(admin));
  policyId = (await admin.call('addPolicy', { body: policyFor([workloadId], targetId, { lockDays: null }) })).id;
  fs.mkdirSync(`${source}/plans/deep`, { recursive: true });
  for (let i = 0; i < 40; i++) fs.writeFileSync(`${source}/plans/deep/plan-${i}`, randomBytes(2000 + i));
  for (const night of ['one', 'two', 'three']) await protect(night);
  // stands for the same instant as the point it is made of
  await admin.ended((await admin.call('protectOnce', { id: workloadId, body: { kind: 'synthetic' } })).runId);
  envelope = (await admin.call('envelope', { id: targetId, body: { passphrase } })).content;
  second = await Harness.start({ clock, leaseMs: 20_000, schedulerMs: 0 });
  heir = await second.as('administrator');
  await second.moverReady();
});
afterAll(async () => {
  await first.stop();
  await second.stop();
});

async function protect(night: string): Promise<void> {
  clock.at += day;
  fs.rmSync(`${source}/of-the-night`, { force: true });
  fs.writeFileSync(`${source}/of-the-night`, night.repeat(5000));
  fs.writeFileSync(Buffer.concat([Buffer.from(`${source}/only-${night}-`), Buffer.of(0xff)]), night);
  fs.rmSync(`${source}/plans/deep/plan-${night.length}`, { force: true });
  await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
  await first.round();
}

/** All that the catalog says of a workload: its points, their trees, the versions of a file. */
async function told(client: Client, id: number): Promise<unknown> {
  const { pointList } = await client.call('workload', { id });
  const trees: unknown[] = [];
  for (const p of pointList)
    for (const path of ['', 'plans/deep']) {
      const { rows } = await client.call('tree', { id: p.id, query: { path, limit: 500 } });
      trees.push(rows.map((r) => [r.name, r.kind, r.size, r.mtimeNs, r.versions]));
    }
  const { rows } = await client.call('versions', { query: { workload: id, path: 'of-the-night' } });
  const search = await client.call('search', { query: { q: 'only-' } });
  return {
    points: pointList.map((p) => [
      p.id,
      p.moment,
      p.kind,
      p.items,
      p.bytes,
      p.added,
      p.changed,
      p.removed,
      p.warnings,
      p.complete,
      p.buildsOn,
    ]),
    trees,
    versions: rows.map((v) => [v.moment, v.lastMoment, v.points, v.size, v.ended]),
    search: search.rows.map((r) => [r.path, r.versions, r.firstSeen, r.lastSeen, r.stillThere]),
  };
}

async function restored(client: Client, h: Harness, pointId: string): Promise<Record<string, string>> {
  const folder = `${h.folder}/back`;
  fs.rmSync(folder, { recursive: true, force: true });
  const body = { picks: [{ pointId, path: '' }], destination: { to: 'folder' as const, folder }, reason: 'prove it' };
  const run = await client.ended((await client.call('startRestore', { body })).runId);
  expect(run.state).toBe('done');
  return filesBelow(folder);
}

/** Files below a folder with their content and what a restore has to bring back of them. */
function filesBelow(folder: string): Record<string, string> {
  const files: Record<string, string> = {};
  const walk = (below: Buffer) => {
    for (const name of fs.readdirSync(Buffer.concat([Buffer.from(folder), below]), { encoding: 'buffer' })) {
      const at = Buffer.concat([below, Buffer.from('/'), name]);
      const full = Buffer.concat([Buffer.from(folder), at]);
      const stat = fs.lstatSync(full, { bigint: true });
      files[at.toString('latin1')] = `${stat.mode} ${stat.mtimeNs} ${stat.isFile() ? fs.readFileSync(full).toString('base64') : ''}`;
      if (stat.isDirectory()) walk(at);
    }
  };
  walk(Buffer.alloc(0));
  return files;
}

describe('another installation', () => {
  const body = () => ({ name: 'heirloom', place: { kind: 'folder' as const, folder: `${first.folder}/store` }, envelope, passphrase });

  it('can not take over a store with the wrong passphrase, something that is no envelope, or where there is none', async () => {
    await expect(heir.call('takeOverTarget', { body: { ...body(), passphrase: 'wrong' } })).rejects.toThrow('does not open');
    await expect(heir.call('takeOverTarget', { body: { ...body(), envelope: '{}' } })).rejects.toThrow('no key envelope');
    const nowhere = { kind: 'folder' as const, folder: `${second.folder}/nothing` };
    await expect(heir.call('takeOverTarget', { body: { ...body(), place: nowhere } })).rejects.toMatchObject({ code: 'TARGET_FAULTY' });
    await expect(heir.call('addTarget', { body: body() })).rejects.toMatchObject({ code: 'TARGET_FAULTY' });
    expect((await heir.call('listTargets')).rows).toEqual([]);
  });

  it('takes it over with the envelope alone: everything is listed as before and comes back byte by byte, the first database being gone', async () => {
    const before = await told(admin, workloadId);
    const points = (await admin.call('workload', { id: workloadId })).pointList;
    const sourceNow = filesBelow(source);
    await first.killMover('mover-1');
    const { runId, id } = await heir.call('takeOverTarget', { body: body() });
    const run = await heir.ended(runId);
    expect([run.state, run.counts.warnings]).toEqual(['done', 0]);
    const [workload] = (await heir.call('estate')).workloads;
    expect(workload).toMatchObject({ name: 'quay-1', points: 4, source: { folder: source } });
    expect(await told(heir, workload!.id)).toEqual(before);
    expect(await restored(heir, second, points.at(-1)!.id)).toEqual(sourceNow);
    expect((await heir.call('listTargets')).rows).toMatchObject([{ id, points: 4 }]);
    first.startMover('mover-1');
    await first.moverReady();
  });

  it('owns it from then on: the first is refused whatever would change it, and can go on reading', async () => {
    const objects = () =>
      fs
        .readdirSync(`${first.folder}/store`, { recursive: true })
        .filter((n) => !String(n).includes('pins'))
        .sort();
    const before = objects();
    const refused = async ({ runId }: { runId: number }) => {
      const run = await admin.ended(runId);
      expect([run.state, run.cause?.code]).toEqual(['failed', 'NOT_OWNER']);
    };
    await refused(await admin.call('runPolicy', { id: policyId, body: {} }));
    await refused(await admin.call('pruneTarget', { id: targetId, body: {} }));
    await refused(await admin.call('verifyTarget', { id: targetId }));
    await expect(admin.call('newKey', { id: targetId })).rejects.toThrow('Another installation');
    expect(objects()).toEqual(before);
    const points = (await admin.call('workload', { id: workloadId })).pointList;
    expect(Object.keys(await restored(admin, first, points.at(-1)!.id)).length).toBeGreaterThan(40);
  });

  it('goes on protecting where the first left off, storing nothing twice', async () => {
    const [workload] = (await heir.call('estate')).workloads;
    clock.at += day;
    const target = (await heir.call('listTargets')).rows[0]!.id;
    const { id } = await heir.call('addPolicy', { body: policyFor([workload!.id], target) });
    const run = await heir.ended((await heir.call('runPolicy', { id, body: {} })).runId);
    expect([run.state, run.counts.read]).toEqual(['done', 0]);
    expect((await heir.call('workload', { id: workload!.id })).pointList).toHaveLength(5);
  });

  it('finds nothing new when it looks again', async () => {
    const target = (await heir.call('listTargets')).rows[0]!.id;
    const run = await heir.ended((await heir.call('adoptTarget', { id: target })).runId);
    const log = (await heir.call('runLog', { id: run.id, query: { q: 'taken into' } })).rows;
    expect(log[0]!.message).toContain('0 points of 1 series taken into the catalog');
    expect(log[0]!.message).toContain('5 others known');
  });

  it('keeps all it took over until two people leave that to the policies', async () => {
    const { id: target } = (await heir.call('listTargets')).rows[0]!;
    const [workload] = (await heir.call('estate')).workloads;
    const points = async () => (await heir.call('workload', { id: workload!.id })).pointList.map((p) => p.id);
    const old = (await points()).slice(0, 4);
    clock.at += 60 * day;
    await heir.ended((await heir.call('runPolicy', { id: (await heir.call('listPolicies')).rows[0]!.id, body: {} })).runId);
    await second.round();
    expect(await points()).toEqual(expect.arrayContaining(old));
    expect((await heir.call('getTarget', { id: target })).takenOver).toBe(4);
    const asked = await heir.call('settleTarget', { id: target });
    expect(await points()).toEqual(expect.arrayContaining(old));
    await second.agree(asked);
    expect((await heir.call('getTarget', { id: target })).takenOver).toBe(0);
    await second.round();
    expect((await points()).filter((p) => old.includes(p))).toEqual([]);
    await expect(heir.call('settleTarget', { id: target })).rejects.toMatchObject({ code: 'NOT_NOW' });
  });
});

describe('a catalog that was set back', () => {
  it('makes prune delete nothing a root needs, and learns again what stands on the target', async () => {
    const { db } = first.server.deps;
    const place = { kind: 'folder' as const, folder: `${first.folder}/own` };
    const { id: own } = await admin.call('addTarget', { body: { name: 'own', place } });
    await admin.call('changePolicy', { id: policyId, body: policyFor([workloadId], own) });
    for (const night of ['nine', 'ten', 'eleven', 'thirteen']) await protect(night);
    const before = await told(admin, workloadId);
    const known = (await admin.call('workload', { id: workloadId })).pointList;
    const lost = known.slice(-2).map((p) => p.id);
    const [{ no, ordinal: from }] = (await db('point as p')
      .join('series as s', 's.no', 'p.series_no')
      .where('p.id', lost[0]!)
      .select('s.no', 'p.ordinal')) as [{ no: number; ordinal: number }];
    await db('copy').whereIn('point_id', lost).delete();
    await db('point').whereIn('id', lost).delete();
    await db('item').where({ series_no: no }).where('from_ord', '>=', from).delete();
    await db('item').where({ series_no: no }).where('to_ord', '>=', from).update({ to_ord: Number.MAX_SAFE_INTEGER, ended: 0 });
    await db('series')
      .where({ no })
      .update({ last_ordinal: from - 1024 });
    expect((await admin.call('workload', { id: workloadId })).pointList).toHaveLength(known.length - 2);
    await admin.ended((await admin.call('pruneTarget', { id: own, body: {} })).runId);
    expect((await admin.ended((await admin.call('adoptTarget', { id: own })).runId)).state).toBe('done');
    const after = (await told(admin, workloadId)) as { points: unknown[][] };
    for (const point of (before as { points: unknown[][] }).points) expect(after.points.map((p) => p[0])).toContain(point[0]);
    expect(await restored(admin, first, lost[1]!)).toEqual(filesBelow(source));
  });
});

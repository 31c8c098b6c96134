import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import { gzipSync } from 'node:zlib';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let workloadId: number;
let source: string;
let policyId: number;
let targetId: string;

const at = (name: string) => path.join(source, name);
const text = (i: number, lines = 400) => `sounding ${i} at the outer buoy, depth ${i % 40} m\n`.repeat(lines);
const read = (name: string) => fs.readFileSync(at(name));
/** Overwritten by what looks random, no larger than it was but for what is put around it. */
const encrypt = (name: string, to = name) => {
  const { size } = fs.statSync(at(name));
  fs.rmSync(at(name));
  fs.writeFileSync(at(to), randomBytes(size + 96));
};

beforeAll(async () => {
  h = await Harness.start();
  admin = await h.as('administrator');
  ({ workloadId, source, targetId } = await h.connect(admin));
  for (const folder of ['charts', 'notices', 'logs']) fs.mkdirSync(at(folder));
  for (let i = 0; i < 120; i++) fs.writeFileSync(at(`charts/c${i}.csv`), text(i));
  for (let i = 0; i < 80; i++) fs.writeFileSync(at(`notices/n${i}.txt`), text(i, 40));
  fs.writeFileSync(at('charts/large.csv'), text(7, 60_000));
  const body = policyFor([workloadId], targetId, { schedule: { every: 'hand' }, changeLimit: 100 });
  policyId = (await admin.call('addPolicy', { body })).id;
});
afterAll(() => h.stop());

async function night(): Promise<Awaited<ReturnType<typeof point>>> {
  const run = await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
  expect(['done', 'held']).toContain(run.state);
  return point();
}

async function point() {
  const { pointList } = await admin.call('workload', { id: workloadId });
  const newest = pointList.reduce((a, b) => (b.moment > a.moment ? b : a));
  return admin.call('pointChange', { id: newest.id, query: {} });
}

describe('unusual change', () => {
  let before: Map<string, Buffer>;

  it('leaves a first point, compression, rotation, moves and a few sealed files alone', async () => {
    expect(await night()).toMatchObject({ score: 0, suspect: false, damage: null });
    for (let i = 0; i < 10; i++) fs.writeFileSync(at(`charts/c${i}.csv`), text(i + 1000));
    await night();
    for (let i = 60; i < 80; i++) {
      fs.writeFileSync(at(`notices/n${i}.txt.gz`), gzipSync(read(`notices/n${i}.txt`)));
      fs.rmSync(at(`notices/n${i}.txt`));
    }
    for (let i = 40; i < 60; i++) fs.renameSync(at(`notices/n${i}.txt`), at(`logs/n${i}.txt`));
    encrypt('notices/n0.txt', 'notices/n0.txt.sealed');
    const judged = await night();
    expect(judged).toMatchObject({ suspect: false });
    expect(judged.score).toBeLessThan(60);
  });

  it('finds parts encrypted inside files, and names, pairs and brings back exactly what was damaged', async () => {
    const names = [
      'charts/large.csv',
      ...Array.from({ length: 14 }, (_, i) => `charts/c${20 + i}.csv`),
      'notices/n5.txt',
      'notices/n6.txt',
    ];
    before = new Map(names.map((n) => [n, read(n)]));
    const large = fs.openSync(at('charts/large.csv'), 'r+');
    for (let offset = 200_000; offset < 2_000_000; offset += 200_000) fs.writeSync(large, randomBytes(150_000), 0, 150_000, offset);
    fs.closeSync(large);
    for (let i = 0; i < 7; i++) encrypt(`charts/c${20 + i}.csv`);
    for (let i = 7; i < 14; i++) encrypt(`charts/c${20 + i}.csv`, `charts/c${20 + i}.csv.krx`);
    for (const n of [5, 6]) encrypt(`notices/n${n}.txt`, `notices/${randomBytes(6).toString('hex')}`);
    // the same night somebody works, and something goes on purpose
    for (let i = 90; i < 100; i++) fs.writeFileSync(at(`charts/c${i}.csv`), text(i + 2000));
    fs.rmSync(at('charts/c119.csv'));
    const judged = await night();
    expect(judged).toMatchObject({ suspect: true, said: null });
    expect(judged.signs[0]!.code).toBe('encrypted');
    const { damage } = judged;
    expect(damage).toMatchObject({ precise: true, otherFolders: 0 });
    const byName = damage!.rows.filter((r) => !r.path.startsWith('notices/')).map((r) => r.path);
    expect(byName.sort()).toEqual(names.filter((n) => n.startsWith('charts/')).sort());
    expect(damage!.rows.find((r) => r.path === 'charts/c28.csv')).toMatchObject({ how: 'twin', twin: 'c28.csv.krx' });
    expect(damage!.firstAt).toBeGreaterThan(Date.now() - 600_000);
    const changes = await admin.call('listChanges', { query: { days: 14 } });
    expect(changes.rows).toMatchObject([{ id: workloadId, holdFrom: 60 }]);
    expect(changes.rows[0]!.points.at(-1)).toMatchObject({ id: judged.id, suspect: true });

    const body = {
      damagedIn: judged.id,
      destination: { to: 'original' as const },
      reason: 'undo the attack',
      rule: 'replace' as const,
    };
    const run = await admin.ended((await admin.call('startRestore', { body })).runId);
    expect(run.state).toBe('done');
    for (const name of byName) expect(read(name).equals(before.get(name)!), name).toBe(true);
    expect(read('charts/c95.csv').toString()).toBe(text(2095));
    expect(fs.existsSync(at('charts/c119.csv'))).toBe(false);
  });

  it('hears what a person says: usual, damage, and from which score on', async () => {
    const { pointList } = await admin.call('workload', { id: workloadId });
    const judged = await admin.call('pointChange', { id: pointList.find((p) => p.suspect)!.id, query: {} });
    await admin.call('sayOfPoint', { id: judged.id, body: { as: 'usual', reason: 'this was a drill' } });
    expect(await admin.call('pointChange', { id: judged.id, query: {} })).toMatchObject({
      suspect: false,
      said: { as: 'usual', by: 'administrator', reason: 'this was a drill' },
    });
    await expect(admin.call('sayOfPoint', { id: judged.id, body: { as: 'usual', reason: 'again' } })).rejects.toMatchObject({
      code: 'NOT_NOW',
    });
    expect((await admin.call('workload', { id: workloadId })).frozen).toBe(false);
    await admin.call('sayOfPoint', { id: judged.id, body: { as: 'damage', reason: 'it was none' } });
    expect(await admin.call('workload', { id: workloadId })).toMatchObject({ frozen: true, coverage: 'suspect' });
    await admin.call('liftSuspicion', { id: workloadId, body: { reason: 'cleaned up' } });
    await admin.call('setHoldFrom', { id: workloadId, body: { holdFrom: 101 } });
    await night();
    for (let i = 60; i < 85; i++) encrypt(`charts/c${i}.csv`);
    expect(await night()).toMatchObject({ suspect: false, score: 100 });
    await admin.call('setHoldFrom', { id: workloadId, body: { holdFrom: 60 } });
    await expect(admin.call('setHoldFrom', { id: workloadId, body: { holdFrom: 5 } })).rejects.toMatchObject({ code: 'INVALID' });
    await expect(admin.call('setHoldFrom', { id: 9999, body: { holdFrom: 50 } })).rejects.toMatchObject({ code: 'NOT_FOUND' });
    const { rows } = await admin.call('audit', { query: { limit: 50 } });
    expect(rows.map((r) => r.action)).toEqual(expect.arrayContaining(['point.usual', 'point.damage', 'workload.holdFrom']));
  });

  it('finds a deletion, and counts what went as damaged only then', async () => {
    await night();
    await night();
    for (let i = 40; i < 60; i++) fs.rmSync(at(`charts/c${i}.csv`));
    for (let i = 86; i < 118; i++) fs.rmSync(at(`charts/c${i}.csv`));
    const judged = await night();
    expect(judged).toMatchObject({ suspect: true, signs: [{ code: 'deleted' }] });
    expect(judged.damage!.rows.filter((r) => r.how === 'gone')).toHaveLength(52);
  });
});

describe('what goes slowly', () => {
  it('is added up over the nights, and brought back from before each of them', async () => {
    const folder = path.join(h.folder, 'rosters');
    fs.mkdirSync(folder);
    const slow = await admin.call('addSource', { body: { name: 'quay-2', folder } });
    const file = (i: number) => path.join(folder, `roster-${i}.txt`);
    for (let i = 0; i < 150; i++) fs.writeFileSync(file(i), text(i, 60));
    const body = policyFor([slow.workloadId], targetId, { schedule: { every: 'hand' }, changeLimit: 100 });
    const { id } = await admin.call('addPolicy', { body: { ...body, name: 'Rosters' } });
    const take = async () => {
      await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
      const { rows } = await admin.call('listChanges', { query: { days: 1, workload: slow.workloadId } });
      return rows[0]!.points.at(-1)!;
    };
    expect(await take()).toMatchObject({ first: true, score: 0 });
    for (let i = 100; i < 104; i++) {
      fs.appendFileSync(file(i), 'changed\n');
      await take();
    }
    const held: boolean[] = [];
    const damaged: number[] = [];
    for (let n = 0; n < 4 && !held.includes(true); n++) {
      for (let i = n * 3; i < n * 3 + 3; i++) {
        fs.writeFileSync(file(i), randomBytes(fs.statSync(file(i)).size + 32));
        damaged.push(i);
      }
      held.push((await take()).suspect);
      // what somebody puts in order meanwhile stays as they wrote it
      if (n === 0) {
        fs.writeFileSync(file(0), 'written anew by hand\n'.repeat(50));
        damaged.shift();
      }
    }
    expect(held[0]).toBe(false);
    expect(held.at(-1)).toBe(true);
    const { rows } = await admin.call('listChanges', { query: { days: 1, workload: slow.workloadId } });
    const judged = await admin.call('pointChange', { id: rows[0]!.points.at(-1)!.id, query: {} });
    expect(judged.signs[0]!.code).toBe('encryptedSlowly');
    expect(judged.damage!.rows.map((r) => r.path).sort()).toEqual(damaged.map((i) => `roster-${i}.txt`).sort());
    expect(new Set(judged.damage!.rows.map((r) => r.clean.pointId)).size).toBe(held.length);
    const back = { damagedIn: judged.id, destination: { to: 'original' as const }, reason: 'undo it', rule: 'replace' as const };
    expect((await admin.ended((await admin.call('startRestore', { body: back })).runId)).state).toBe('done');
    for (const i of damaged) expect(fs.readFileSync(file(i), 'utf8'), `roster-${i}`).toBe(text(i, 60));
    expect(fs.readFileSync(file(0), 'utf8')).toContain('written anew by hand');
  });

  it('is shown to who reads, decided by administrators only, and in a remit alone', async () => {
    const { rows } = await admin.call('listChanges', { query: { days: 90 } });
    expect(rows.map((r) => r.name).sort()).toEqual(['quay-1', 'quay-2']);
    expect(rows.every((r) => r.learned > 0 && r.points.length > 0)).toBe(true);
    const pointId = rows[0]!.points[0]!.id;
    const operator = await h.as('operator');
    expect((await operator.call('listChanges', { query: {} })).rows).toHaveLength(2);
    await expect(operator.call('sayOfPoint', { id: pointId, body: { as: 'usual', reason: 'not mine' } })).rejects.toMatchObject({
      code: 'NOT_ALLOWED',
    });
    const clerk = await h.as('clerk');
    await expect(clerk.call('listChanges', { query: {} })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    await expect(clerk.call('pointChange', { id: pointId, query: {} })).rejects.toMatchObject({ code: 'OUTSIDE_REMIT' });
  });
});

import fs from 'node:fs';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let first: number;
let source: string;

beforeAll(async () => {
  h = await Harness.start({ schedulerMs: 0 });
  admin = await h.as('administrator');
  const connected = await h.connect(admin, 'plans');
  ({ source, workloadId: first } = connected);
  const { targetId } = connected;
  fs.mkdirSync(`${source}/2026/deep`, { recursive: true });
  for (let n = 0; n < 500; n++) fs.writeFileSync(`${source}/2026/plan ${n}.txt`, `plan ${n}`);
  fs.writeFileSync(`${source}/2026/deep/100%.txt`, 'odd');
  fs.writeFileSync(`${source}/2026/ünï.txt`, 'letters');
  const { id } = await admin.call('addPolicy', { body: policyFor([first], targetId) });
  const run = async () => admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
  await run();
  fs.rmSync(`${source}/2026/plan 7.txt`);
  await run();
});
afterAll(() => h.stop());

it('finds a pasted list of 500 paths, whole ones, below the source, escaped, deleted ones; and says which are nowhere', async () => {
  const lines = [
    ...Array.from({ length: 495 }, (_, n) => (n % 2 ? `${source}/2026/plan ${n}.txt` : `2026/plan ${n}.txt`)),
    '2026/deep/100%25.txt',
    '"2026/ünï.txt"',
    './2026/deep',
    '2026/plan 9999.txt',
    '/etc/passwd',
  ];
  const { rows } = await admin.call('findPaths', { body: { paths: lines } });
  expect(rows.map((r) => r.line)).toEqual(lines);
  expect(rows.filter((r) => r.found.length !== 1).map((r) => r.line)).toEqual(['2026/plan 9999.txt', '/etc/passwd']);
  expect(rows[6]!.found).toMatchObject([{ path: '2026/plan 6.txt', stillThere: true, kind: 'file', workload: { id: first } }]);
  expect(rows[7]!.found).toMatchObject([{ path: '2026/plan 7.txt', stillThere: false }]);
  expect(rows.slice(-5, -2).map((r) => r.found[0]!.path)).toEqual(['2026/deep/100%25.txt', '2026/ünï.txt', '2026/deep']);
});

it('looks nowhere that is not one’s own, nor out of a source', async () => {
  const clerk = await h.as('clerk');
  const { rows } = await clerk.call('findPaths', { body: { paths: ['2026/plan 1.txt'] } });
  expect(rows[0]!.found).toEqual([]);
  await expect(clerk.call('findPaths', { body: { paths: ['x'], workload: first } })).rejects.toMatchObject({ code: 'OUTSIDE_REMIT' });
  const odd = await admin.call('findPaths', {
    body: { paths: ['../plans/2026', '2026/../2026/plan 1.txt', `${source}/../plans/2026`, '2026//plan 1.txt'] },
  });
  expect(odd.rows.every((r) => r.found.length === 0)).toBe(true);
  await expect(admin.call('findPaths', { body: { paths: [] } })).rejects.toMatchObject({ code: 'INVALID' });
});

it('tells two points from each other, changed first, as a page and as CSV', async () => {
  fs.writeFileSync(`${source}/2026/plan 1.txt`, 'another plan');
  fs.writeFileSync(`${source}/2026/=new.txt`, 'new');
  fs.rmSync(`${source}/2026/plan 2.txt`);
  fs.chmodSync(`${source}/2026/deep`, 0o700);
  const policy = (await admin.call('listPolicies')).rows[0]!.id;
  await admin.ended((await admin.call('runPolicy', { id: policy, body: {} })).runId);
  const points = (await admin.call('workload', { id: first })).pointList;
  const [oldest, before, newest] = [points[0]!.id, points.at(-2)!.id, points.at(-1)!.id];
  const told = await admin.call('difference', { id: newest, query: { with: before } });
  expect(told.counts).toEqual({ changed: 2, gone: 1, added: 1, unseen: 0 });
  expect(told.rows.map((r) => [r.change, r.path]).sort()).toEqual([
    ['added', '2026/=new.txt'],
    ['changed', '2026/deep'],
    ['changed', '2026/plan 1.txt'],
    ['gone', '2026/plan 2.txt'],
  ]);
  const changed = told.rows.find((r) => r.path === '2026/plan 1.txt')!;
  expect(changed).toMatchObject({ then: { size: 6 }, after: { size: 12 } });
  expect((await admin.call('difference', { id: before, query: { with: newest } })).from.pointId).toBe(before);
  const wide = await admin.call('difference', { id: oldest, query: { with: newest, show: 'gone', limit: 1 } });
  expect([wide.rows.length, wide.counts?.gone, wide.next]).toEqual([1, 2, '1']);
  expect(await admin.call('difference', { id: oldest, query: { with: newest, show: 'gone', limit: 1, cursor: '1' } })).toMatchObject({
    next: null,
    counts: null,
  });
  expect((await admin.call('difference', { id: newest, query: { with: newest } })).rows).toEqual([]);
  const csv = await (await admin.fetch('differenceCsv', { id: newest, query: { with: before } })).text();
  expect(csv.split('\r\n')).toHaveLength(6);
  expect(csv).toContain('2026/plan 1.txt,changed,file,6,');
  await expect((await h.as('clerk')).call('difference', { id: newest, query: { with: before } })).rejects.toMatchObject({
    code: 'OUTSIDE_REMIT',
  });
});

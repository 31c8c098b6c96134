import { execFile } from 'node:child_process';
import fs from 'node:fs';
import { Readable } from 'node:stream';
import { promisify } from 'node:util';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';
import { describeTree, makeNastyTree } from '../support/nasty-tree';

let h: Harness;
let admin: Client;

beforeAll(async () => {
  h = await Harness.start();
  admin = await h.as('administrator');
});
afterAll(() => h.stop());

describe('from a folder to a restored folder, through the API', () => {
  let workloadId: number;
  let source: string;
  let policyId: number;

  it('connects, protects and lists', async () => {
    const c = await h.connect(admin);
    ({ workloadId, source } = c);
    fs.mkdirSync(`${source}/charts/north`, { recursive: true });
    fs.writeFileSync(`${source}/charts/north/approach.chart`, 'depths 1');
    fs.writeFileSync(`${source}/charts/south.chart`, 'depths 2');
    fs.writeFileSync(`${source}/notes 100%.txt`, 'remember');
    policyId = (await admin.call('addPolicy', { body: policyFor([workloadId], c.targetId) })).id;
    const { runId } = await admin.call('runPolicy', { id: policyId, body: {} });
    const run = await admin.ended(runId);
    expect(run.state).toBe('done');
    expect(run.tasks[0]!.phases.map((p) => p.name)).toEqual(['reading', 'committing', 'cataloguing']);
    const workload = await admin.call('workload', { id: workloadId });
    expect(workload.coverage).toBe('protected');
    expect(workload.pointList).toHaveLength(1);
    expect(workload.pointList[0]).toMatchObject({ kind: 'full', items: 5, files: 3, complete: true });
  });

  it('shows the tree of every point as it was, versions and what became of each item since', async () => {
    fs.writeFileSync(`${source}/charts/south.chart`, 'depths 2, corrected');
    fs.rmSync(`${source}/charts/north`, { recursive: true });
    fs.writeFileSync(`${source}/charts/east.chart`, 'new');
    const second = await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
    expect(second.state).toBe('done');
    const { pointList } = await admin.call('workload', { id: workloadId });
    const [first, newest] = pointList;
    const then = await admin.call('tree', { id: first!.id, query: { path: 'charts' } });
    expect(then.rows.map((r) => [r.name, r.since])).toEqual([
      ['north', 'gone'],
      ['south.chart', 'changed'],
    ]);
    const root = await admin.call('tree', { id: first!.id });
    expect(root.rows.find((r) => r.name === 'charts')?.strip).toEqual({ same: 1, changed: 1, gone: 1, suspect: 0 });
    expect(root.rows.map((r) => r.path)).toContain('notes 100%25.txt');
    const now = await admin.call('tree', { id: newest!.id, query: { path: 'charts' } });
    expect(now.rows.map((r) => r.name)).toEqual(['east.chart', 'south.chart']);
    const versions = await admin.call('versions', { query: { workload: workloadId, path: 'charts/south.chart' } });
    expect(versions.rows.map((v) => [v.size, v.ended])).toEqual([
      [19, 'still'],
      [8, 'replaced'],
    ]);
    const found = await admin.call('search', { query: { q: 'APPROACH' } });
    expect(found.rows).toMatchObject([{ path: 'charts/north/approach.chart', stillThere: false, versions: 1 }]);
  });

  it('compares with what is there now, for a folder and for one item', async () => {
    const { pointList } = await admin.call('workload', { id: workloadId });
    fs.writeFileSync(`${source}/charts/fresh.chart`, 'x');
    fs.chmodSync(`${source}/charts/south.chart`, 0o600);
    const folder = await admin.call('compare', { id: pointList[1]!.id, query: { path: 'charts', folder: 'yes' } });
    expect(folder.rows.map((r) => [r.name, r.since])).toEqual([
      ['east.chart', 'same'],
      ['south.chart', 'changed'],
      ['fresh.chart', 'new'],
    ]);
    const item = await admin.call('compare', { id: pointList[1]!.id, query: { path: 'charts/south.chart' } });
    expect(item.rows[0]).toMatchObject({ since: 'changed', sameContent: true, now: { mode: 0o600 } });
  });

  it('plans and restores to the original place, telling what it would do first', async () => {
    const { pointList } = await admin.call('workload', { id: workloadId });
    const body = {
      picks: [{ pointId: pointList[0]!.id, path: 'charts' }],
      destination: { to: 'original' as const },
      rule: 'leave' as const,
      reason: 'north folder lost',
    };
    const plan = await admin.call('planRestore', { body });
    expect(plan.existing).toMatchObject({ looked: 2, exist: 1, newer: 1 });
    expect(plan.checks.map((c) => c.level)).not.toContain('stop');
    const run = await admin.ended((await admin.call('startRestore', { body })).runId);
    expect(run.state).toBe('done');
    expect(fs.readFileSync(`${source}/charts/north/approach.chart`, 'utf8')).toBe('depths 1');
    expect(fs.readFileSync(`${source}/charts/south.chart`, 'utf8')).toBe('depths 2, corrected');
    const log = await admin.call('runLog', { id: run.id, query: { q: 'south' } });
    expect(log.rows.map((l) => l.message)).toEqual(['left: it exists']);
    const replaced = await admin.call('planRestore', { body: { ...body, rule: 'replace' } });
    expect(replaced.checks.find((c) => c.code === 'REPLACED')).toMatchObject({
      level: 'look',
      text: expect.stringContaining('1 file') as string,
    });
  });

  it('tries without writing', async () => {
    const { pointList } = await admin.call('workload', { id: workloadId });
    fs.rmSync(`${source}/charts/north`, { recursive: true });
    const body = {
      picks: [{ pointId: pointList[0]!.id, path: 'charts/north' }],
      destination: { to: 'original' as const },
      reason: 'just trying',
      trial: true,
    };
    const run = await admin.ended((await admin.call('startRestore', { body })).runId);
    expect(run.state).toBe('done');
    expect(run.counts.items).toBe(2);
    expect(fs.existsSync(`${source}/charts/north`)).toBe(false);
  });

  it('restores beside and into another folder without the original path', async () => {
    const { pointList } = await admin.call('workload', { id: workloadId });
    const to = `${h.folder}/elsewhere`;
    await admin.ended(
      (
        await admin.call('startRestore', {
          body: {
            picks: [{ pointId: pointList[0]!.id, path: 'charts/south.chart' }],
            destination: { to: 'folder', folder: to, keepPath: false },
            reason: 'look at it',
          },
        })
      ).runId,
    );
    expect(fs.readFileSync(`${to}/south.chart`, 'utf8')).toBe('depths 2');
    await admin.ended(
      (
        await admin.call('startRestore', {
          body: {
            picks: [{ pointId: pointList[0]!.id, path: 'charts/south.chart' }],
            destination: { to: 'original' },
            rule: 'beside',
            reason: 'beside',
          },
        })
      ).runId,
    );
    expect(fs.readdirSync(`${source}/charts`).filter((n) => n.startsWith('south (restored'))).toHaveLength(1);
  });

  it('refuses paths that leave the root, and picks a point does not hold', async () => {
    const { pointList } = await admin.call('workload', { id: workloadId });
    const start = (path: string) =>
      admin.call('startRestore', {
        body: { picks: [{ pointId: pointList[0]!.id, path }], destination: { to: 'original' }, reason: 'bad' },
      });
    await expect(start('../etc/passwd')).rejects.toMatchObject({ code: 'INVALID' });
    await expect(start('charts/%2e%2e/x')).rejects.toMatchObject({ code: 'INVALID' });
    await expect(start('charts/none')).rejects.toMatchObject({ code: 'NOT_FOUND' });
  });
});

describe('a nasty tree through the whole product', () => {
  it('comes back identical, by restore and by tar', async () => {
    const c = await h.connect(admin, 'nasty');
    makeNastyTree(c.source);
    const { runId } = await admin.call('protectOnce', { id: c.workloadId, body: {} });
    expect((await admin.ended(runId)).state).toBe('done');
    const point = (await admin.call('workload', { id: c.workloadId })).pointList[0]!;
    const before = describeTree(c.source);

    const to = `${h.folder}/nasty-back`;
    const restored = await admin.ended(
      (
        await admin.call('startRestore', {
          body: { picks: [{ pointId: point.id, path: '' }], destination: { to: 'folder', folder: to }, reason: 'prove it' },
        })
      ).runId,
      120_000,
    );
    expect(restored.state).toBe('done');
    const withoutTop = (text: string) =>
      text
        .split('\n')
        .filter((line) => !line.startsWith('|d|'))
        .join('\n');
    expect(withoutTop(describeTree(to))).toBe(withoutTop(before));

    const { runId: tarRun } = await admin.call('startRestore', {
      body: { picks: [{ pointId: point.id, path: '' }], destination: { to: 'download', format: 'tar' }, reason: 'as tar' },
    });
    const response = await admin.fetch('download', { id: tarRun });
    const tar = `${h.folder}/nasty.tar`;
    const file = fs.openSync(tar, 'w');
    for await (const part of Readable.fromWeb(response.body as never)) fs.writeSync(file, part as Uint8Array);
    fs.closeSync(file);
    const unpacked = `${h.folder}/unpacked`;
    fs.mkdirSync(unpacked);
    const options = ['--numeric-owner', '--xattrs', '--xattrs-include=*', '-xpf', tar, '--strip-components=1', '-C', unpacked];
    await promisify(execFile)('tar', options);
    expect((await admin.ended(tarRun)).state).toBe('done');
    expect(withoutTop(describeTree(unpacked))).toBe(withoutTop(before));
    for (const row of (await admin.call('tree', { id: point.id })).rows) expect(row.name).not.toMatch(/[\n\r\0]/);
  });
});

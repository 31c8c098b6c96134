import { execFileSync } from 'node:child_process';
import fs from 'node:fs';
import yauzl from 'yauzl';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { BodyInput } from '@lithodex/contract';
import { Harness, policyFor, Refused, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let workloadId: number;
let source: string;
let policyId: number;
let points: string[];

const wait = (ms: number) => new Promise((resume) => setTimeout(resume, ms));
const back = () => admin.call('runPolicy', { id: policyId, body: {} }).then(({ runId }) => admin.ended(runId));
const picks = (...items: [point: number, path: string][]) => items.map(([p, path]) => ({ pointId: points[p]!, path }));
type Plan = BodyInput<'planRestore'>;
const original = { to: 'original' } as const;

beforeAll(async () => {
  h = await Harness.start();
  admin = await h.as('administrator');
  const c = await h.connect(admin);
  ({ workloadId, source } = c);
  fs.mkdirSync(`${source}/books/deep`, { recursive: true });
  fs.writeFileSync(`${source}/books/roster.csv`, 'monday');
  fs.writeFileSync(`${source}/books/deep/roster.csv`, 'deep');
  fs.writeFileSync(`${source}/books/empty`, '');
  fs.symlinkSync('roster.csv', `${source}/books/link`);
  policyId = (await admin.call('addPolicy', { body: policyFor([workloadId], c.targetId) })).id;
  await back();
  fs.writeFileSync(`${source}/books/roster.csv`, 'tuesday, longer');
  await back();
  points = (await admin.call('workload', { id: workloadId })).pointList.map((p) => p.id);
});
afterAll(() => h.stop());

/** Starts a download, fetches it, and waits for its run to end. */
async function download(body: Omit<Plan, 'rule'>, name = 'Take-out'): Promise<{ data: Buffer; header: string; state: string }> {
  const { runId } = await admin.call('startRestore', { body: { ...body, name, reason: 'for a test' } });
  const answer = await admin.fetch('download', { id: runId });
  const data = Buffer.from(await answer.arrayBuffer());
  const run = await admin.ended(runId);
  return { data, header: answer.headers.get('content-disposition') ?? '', state: run.state };
}

/** Files of a zip archive by name. */
function unzip(data: Buffer): Promise<Map<string, string>> {
  return new Promise((resolve, reject) => {
    yauzl.fromBuffer(data, { lazyEntries: true }, (error, zip) => {
      if (error) {
        reject(error);
        return;
      }
      const files = new Map<string, string>();
      zip.on('entry', (entry: yauzl.Entry) => {
        zip.openReadStream(entry, (broken, stream) => {
          if (broken) {
            reject(broken);
            return;
          }
          const parts: Buffer[] = [];
          stream.on('data', (part: Buffer) => parts.push(part));
          stream.on('end', () => {
            files.set(entry.fileName, Buffer.concat(parts).toString());
            zip.readEntry();
          });
        });
      });
      zip.on('end', () => {
        resolve(files);
      });
      zip.readEntry();
    });
  });
}

describe('downloads', () => {
  it('hold several versions of one file side by side in a zip archive', async () => {
    const { data, header, state } = await download({
      picks: picks([0, 'books/roster.csv'], [1, 'books/roster.csv'], [1, 'books/deep/roster.csv'], [1, 'books/empty']),
      destination: { to: 'download', format: 'zip' },
    });
    expect(state).toBe('done');
    expect(header).toBe('attachment; filename=Take-out.zip');
    const files = await unzip(data);
    expect([...files.values()].sort()).toEqual(['', 'deep', 'monday', 'tuesday, longer']);
    expect([...files.keys()][0]).toBe('roster.csv');
    expect([...files.keys()].every((n) => /^(roster( \(restored \d{4}-\d\d-\d\d \d{4}( \d)?\))?\.csv|empty)$/.test(n))).toBe(true);
  });

  it('of a folder as zip name what a zip can not hold', async () => {
    const body = { picks: picks([1, 'books']), destination: { to: 'download', format: 'zip' } as const };
    const { data, state } = await download(body);
    const files = await unzip(data);
    expect([...files.keys()].sort()).toEqual(['books/', 'books/deep/', 'books/deep/roster.csv', 'books/empty', 'books/roster.csv']);
    expect(state).toBe('remarks');
    const run = (await admin.call('listRuns', { query: { kinds: 'download', limit: 1 } })).rows[0]!;
    const log = await admin.call('runLog', { id: run.id, query: { level: 'warning' } });
    expect(log.rows).toMatchObject([{ path: 'books/link', code: 'SKIPPED' }]);
  });

  it('of one file come under its own name', async () => {
    const { data, header } = await download({
      picks: picks([0, 'books/roster.csv']),
      destination: { to: 'download', format: 'file' },
    });
    expect(data.toString()).toBe('monday');
    expect(header).toContain('filename=roster.csv');
    const whole: Plan = { picks: picks([0, 'books']), destination: { to: 'download', format: 'file' }, rule: 'leave' };
    expect((await admin.call('planRestore', { body: whole })).checks).toMatchObject([
      { code: 'COMPLETE' },
      { code: 'NOT_ONE_FILE', level: 'stop' },
    ]);
    await expect(admin.call('startRestore', { body: { ...whole, reason: 'for a test' } })).rejects.toMatchObject({ code: 'INVALID' });
  });

  it('belong to the person who asked, and can be fetched once', async () => {
    const body = { picks: picks([0, 'books/roster.csv']), destination: { to: 'download', format: 'tar' } as const, reason: 'for a test' };
    const { runId } = await admin.call('startRestore', { body });
    const other = await h.withToken('administrator');
    const refused = await other.fetch('download', { id: runId });
    expect([refused.status, ((await refused.json()) as { code: string }).code]).toEqual([403, 'NOT_ALLOWED']);
    const answer = await admin.fetch('download', { id: runId });
    const file = `${h.folder}/fetched.tar`;
    fs.writeFileSync(file, Buffer.from(await answer.arrayBuffer()));
    expect(execFileSync('tar', ['xOf', file, 'roster.csv']).toString()).toBe('monday');
    await admin.ended(runId);
    const again = await admin.fetch('download', { id: runId });
    expect(((await again.json()) as { code: string }).code).toBe('NOT_NOW');
    const none = await admin.fetch('download', { id: 999_999 });
    expect(none.status).toBe(404);
  });

  it('end by themselves when the person goes away in the middle', async () => {
    fs.writeFileSync(`${source}/large.bin`, Buffer.alloc(60 << 20, 7));
    await back();
    points = (await admin.call('workload', { id: workloadId })).pointList.map((p) => p.id);
    const body = { picks: picks([2, 'large.bin']), destination: { to: 'download', format: 'file' } as const, reason: 'for a test' };
    const { runId } = await admin.call('startRestore', { body });
    const answer = await admin.fetch('download', { id: runId });
    await answer.body!.cancel();
    const run = await admin.ended(runId);
    expect(run.state).toBe('failed');
    expect(run.tasks[0]!.cause?.message).toBeTruthy();
    expect((await back()).state).toBe('done');
  });
});

describe('restores', () => {
  it('of nothing are refused, wherever they are to go', async () => {
    const places: Plan['destination'][] = [
      { to: 'original' },
      { to: 'folder', folder: '/srv/out' },
      { to: 'scratch', minutes: 35 },
      { to: 'over', workloadId: 1 },
      { to: 'cloud', platformId: 1, region: 'north', network: 'shore', class: 'usual' },
      { to: 'download', format: 'zip' },
    ];
    for (const destination of places)
      await expect(admin.call('planRestore', { body: { picks: [], destination } })).rejects.toMatchObject({ code: 'INVALID' });
  });

  it('refuse two versions for one place, and take both where each gets a name', async () => {
    const both = picks([0, 'books/roster.csv'], [1, 'books/roster.csv']);
    const plan = await admin.call('planRestore', { body: { picks: both, destination: original, rule: 'replace' } });
    expect(plan.checks.find((c) => c.level === 'stop')).toMatchObject({ code: 'SAME_PLACE' });
    await expect(admin.call('startRestore', { body: { picks: both, destination: original, reason: 'for a test' } })).rejects.toThrow(
      'place of another picked version',
    );
    const folder = `${h.folder}/side-by-side`;
    const { runId } = await admin.call('startRestore', {
      body: { picks: both, destination: { to: 'folder', folder, keepPath: false }, reason: 'for a test' },
    });
    expect((await admin.ended(runId)).state).toBe('done');
    const contents = fs.readdirSync(folder).map((n) => fs.readFileSync(`${folder}/${n}`, 'utf8'));
    expect(contents.sort()).toEqual(['monday', 'tuesday, longer']);
  });

  it('put single items at places of their own below the folder, and none outside of it', async () => {
    const folder = `${h.folder}/own-places`;
    const [roster] = picks([0, 'books/roster.csv']);
    const wish = (as: string) => ({
      picks: picks([0, 'books/roster.csv'], [1, 'books/roster.csv']),
      destination: { to: 'folder' as const, folder, keepPath: true, exceptions: [{ ...roster!, as }] },
    });
    for (const as of ['../out', 'a//b', '/etc/x', 'a/../b', 'n'.repeat(256)])
      await expect(admin.call('planRestore', { body: wish(as) })).rejects.toMatchObject({ code: 'INVALID' });
    const plan = await admin.call('planRestore', { body: wish('monday/Liste ö.csv') });
    expect(plan.items.map((i) => i.goesTo)).toEqual([`${folder}/monday/Liste ö.csv`, `${folder}/books/roster.csv`]);
    expect(plan.checks.find((c) => c.code === 'FOLDER_MADE')?.text).toBe(`${folder} is not there yet: it is made.`);
    const { runId } = await admin.call('startRestore', { body: { ...wish('monday/Liste ö.csv'), reason: 'for a test' } });
    expect((await admin.ended(runId)).state).toBe('done');
    expect(fs.readFileSync(`${folder}/monday/Liste ö.csv`, 'utf8')).toBe('monday');
    expect(fs.readFileSync(`${folder}/books/roster.csv`, 'utf8')).toBe('tuesday, longer');
  });

  it('say what stands at the destination under each rule, before anything is written', async () => {
    fs.writeFileSync(`${source}/books/roster.csv`, 'newest of all');
    const codes = async (rule: Plan['rule']) =>
      (await admin.call('planRestore', { body: { picks: picks([0, 'books']), destination: original, rule } })).checks.map((c) => c.code);
    expect(await codes('leave')).toContain('LEFT');
    expect(await codes('beside')).toContain('BESIDE');
    expect(await codes('replaceIfOlder')).toContain('OLDER');
    const replace = await admin.call('planRestore', { body: { picks: picks([0, 'books']), destination: original, rule: 'replace' } });
    expect(replace.checks.find((c) => c.code === 'REPLACED')).toMatchObject({
      level: 'look',
      text: 'Would replace what is newer than the point: 1 file.',
    });
    expect(replace.existing).toMatchObject({ newer: 1, complete: true });
    const empty = await admin.call('planRestore', {
      body: { picks: picks([0, 'books']), destination: { to: 'folder', folder: `${h.folder}/nowhere/yet` }, rule: 'leave' },
    });
    expect(empty.checks.map((c) => c.code)).toContain('NOTHING_EXISTS');
    expect(fs.existsSync(`${h.folder}/nowhere`)).toBe(false);
    expect(fs.readFileSync(`${source}/books/roster.csv`, 'utf8')).toBe('newest of all');
  });

  it('refuse a destination that is no folder, and change nothing', async () => {
    const body = { picks: picks([0, 'books/roster.csv']), destination: { to: 'folder', folder: `${source}/books/empty` } as const };
    const before = fs.readdirSync(`${source}/books`);
    const started = await admin.call('startRestore', { body: { ...body, reason: 'for a test' } }).catch((e: unknown) => e as Refused);
    if (!(started instanceof Refused)) expect((await admin.ended(started.runId)).state).toBe('failed');
    expect(fs.readdirSync(`${source}/books`)).toEqual(before);
    expect(fs.statSync(`${source}/books/empty`).size).toBe(0);
  });

  it('refuse points and paths that are not there', async () => {
    const gone = '00000000-0000-4000-8000-000000000000';
    const plan = (pointId: string, path: string) =>
      admin.call('planRestore', { body: { picks: [{ pointId, path }], destination: original, rule: 'leave' } });
    await expect(plan(gone, '')).rejects.toMatchObject({ status: 404 });
    await expect(plan(points[0]!, 'books/none')).rejects.toMatchObject({ code: 'NOT_FOUND' });
    await expect(plan(points[0]!, '../escape')).rejects.toMatchObject({ code: 'INVALID' });
  });

  it('can be stopped, and leave whole files only', async () => {
    fs.mkdirSync(`${source}/many`);
    for (let i = 0; i < 3000; i++) fs.writeFileSync(`${source}/many/${i}`, `content ${i} `.repeat(50));
    await back();
    points = (await admin.call('workload', { id: workloadId })).pointList.map((p) => p.id);
    const folder = `${h.folder}/stopped`;
    const { runId } = await admin.call('startRestore', {
      body: { picks: picks([points.length - 1, 'many']), destination: { to: 'folder', folder }, reason: 'for a test' },
    });
    while (!fs.existsSync(`${folder}/many`)) await wait(5);
    await admin.call('stopRun', { id: runId });
    const run = await admin.ended(runId);
    expect(['stopped', 'done']).toContain(run.state);
    for (const name of fs.readdirSync(`${folder}/many`))
      expect(fs.readFileSync(`${folder}/many/${name}`, 'utf8')).toBe(`content ${name} `.repeat(50));
    await expect(admin.call('stopRun', { id: runId })).rejects.toMatchObject({ code: 'NOT_NOW' });
  });
});

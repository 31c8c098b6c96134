import { createHash } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import { gzipSync } from 'node:zlib';
import { pack } from 'tar-stream';
import yazl from 'yazl';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { itLong } from '../support/by-command';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let workloadId: number;
let source: string;
let policyId: number;

const at = (name: string) => path.join(source, name);
const sample = 'LITHODEX-HARMLESS-SAMPLE-OF-MALWARE-7Q4X';
const put = (name: string, content: string | Buffer) => {
  fs.mkdirSync(path.dirname(at(name)), { recursive: true });
  fs.writeFileSync(at(name), content);
};

async function zipOf(files: Readonly<Record<string, Buffer>>): Promise<Buffer> {
  const zip = new yazl.ZipFile();
  for (const [name, data] of Object.entries(files)) zip.addBuffer(data, name);
  zip.end();
  const pieces: Buffer[] = [];
  for await (const piece of zip.outputStream as unknown as AsyncIterable<Buffer>) pieces.push(piece);
  return Buffer.concat(pieces);
}

async function tarOf(files: Readonly<Record<string, Buffer>>): Promise<Buffer> {
  const tar = pack();
  for (const [name, data] of Object.entries(files)) tar.entry({ name }, data);
  tar.finalize();
  const pieces: Buffer[] = [];
  for await (const piece of tar as AsyncIterable<Buffer>) pieces.push(piece);
  return Buffer.concat(pieces);
}

const mailOf = (name: string, data: Buffer) =>
  [
    'From: Mira Holt <mira@kelmar.example>',
    'Subject: plans',
    'MIME-Version: 1.0',
    'Content-Type: multipart/mixed; boundary=cut',
    '',
    '--cut',
    'Content-Type: text/plain',
    '',
    'the plans',
    '--cut',
    `Content-Type: application/octet-stream; name="${name}"`,
    `Content-Disposition: attachment; filename="${name}"`,
    'Content-Transfer-Encoding: base64',
    '',
    data.toString('base64'),
    '--cut--',
    '',
  ].join('\r\n');

beforeAll(async () => {
  h = await Harness.start({ schedulerMs: 0 });
  admin = await h.as('administrator');
  const connected = await h.connect(admin, 'desk');
  ({ workloadId, source } = connected);
  for (let i = 0; i < 40; i++) put(`plans/p${i}.txt`, `berth ${i} is free\n`.repeat(50));
  const body = policyFor([workloadId], connected.targetId, { schedule: { every: 'hand' }, changeLimit: 100 });
  policyId = (await admin.call('addPolicy', { body })).id;
});
afterAll(() => h.stop());

async function night(): Promise<string> {
  await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
  return (await newest()).id;
}
async function newest() {
  const { pointList } = await admin.call('workload', { id: workloadId });
  return pointList.reduce((a, b) => (b.moment > a.moment ? b : a));
}
async function scan(more: { from?: number; to?: number } = {}) {
  const run = await admin.ended((await admin.call('startScan', { body: { workloads: [workloadId], ...more } })).runId);
  expect(run).toMatchObject({ kind: 'scan', state: expect.stringMatching(/done|remarks/) as string });
  return run;
}
const pointScan = (id: string) => admin.call('pointScan', { id });
const rowOf = async () => (await admin.call('listScans')).rows.find((r) => r.id === workloadId)!;

describe('scans of points', () => {
  let clean: string;
  let infected: string;

  it('say nothing of what was not scanned, and clean of what was', async () => {
    clean = await night();
    expect(await pointScan(clean)).toMatchObject({ verdict: 'unscanned', scanned: null, lastClean: null });
    await scan();
    expect(await pointScan(clean)).toMatchObject({ verdict: 'clean', scanned: { items: 40, notLooked: 0 }, lastClean: { id: clean } });
  });

  it('find what is planted in files, archives in archives, attachments and dumps', async () => {
    const planted = Buffer.from(`begin ${sample} end`);
    put('plain.bin', Buffer.concat([Buffer.alloc(3000, 7), planted]));
    put('nested.tar', await tarOf({ 'in/side.zip': await zipOf({ 'deep/planted.txt': planted }), 'other.txt': Buffer.from('nothing') }));
    put('packed.gz', gzipSync(planted));
    put('mail/1.eml', mailOf('plan.zip', await zipOf({ 'plan.doc': planted })));
    put('dumps/berths.sql', `INSERT INTO notes VALUES (1,'${sample}'),(2,'nothing');\n`);
    put('closed.zip', Buffer.from('PK\x03\x04 this is no archive'));
    infected = await night();
    await scan();
    const told = await pointScan(infected);
    expect(told).toMatchObject({
      verdict: 'infected',
      scanned: { items: 6, infected: 5, suspect: 0, notLooked: 1 },
      lastClean: { id: clean, verdict: 'clean' },
    });
    expect(told.finds.map((f) => [f.path, f.within]).sort()).toEqual([
      ['dumps/berths.sql', ''],
      ['mail/1.eml', 'plan.zip → plan.doc'],
      ['nested.tar', 'in/side.zip → deep/planted.txt'],
      ['packed.gz', 'unpacked'],
      ['plain.bin', ''],
    ]);
    expect(await rowOf()).toMatchObject({ verdict: 'infected', infected: 1, lastClean: { id: clean } });
  });

  it('stand in the way of a restore of what is infected, unless it is wanted nonetheless', async () => {
    const body = (pick: string, more: object = {}) => ({
      picks: [{ pointId: infected, path: pick }],
      destination: { to: 'folder' as const, folder: `${h.folder}/out` },
      reason: 'to look at it',
      ...more,
    });
    expect((await admin.call('planRestore', { body: body('plans') })).checks.map((c) => c.code)).not.toContain('INFECTED');
    const { checks } = await admin.call('planRestore', { body: body('') });
    expect(checks).toContainEqual(
      expect.objectContaining({ code: 'INFECTED', level: 'stop', text: expect.stringMatching(/^5 items .*dumps\/berths.sql/) as string }),
    );
    await expect(admin.call('startRestore', { body: body('plain.bin') })).rejects.toMatchObject({
      code: 'INVALID',
      details: { check: 'INFECTED' },
    });
    expect(fs.existsSync(`${h.folder}/out`)).toBe(false);
    const { runId } = await admin.call('startRestore', { body: body('plain.bin', { despiteInfected: true }) });
    expect((await admin.ended(runId)).state).toBe('done');
    const { matters } = await admin.call('watch', { query: {} });
    expect(matters).toContainEqual(
      expect.objectContaining({
        title: 'Something infected is in desk',
        text: expect.stringMatching(/the last one scanned clean is of/) as string,
      }),
    );
  });

  it('read nothing twice: not what was scanned, not what did not change, not the same bytes under another name', async () => {
    expect((await scan()).counts.read).toBe(0);
    fs.copyFileSync(at('plain.bin'), at('plain again.bin'));
    fs.rmSync(at('nested.tar'));
    const copied = await night();
    await scan();
    const told = await pointScan(copied);
    expect(told.scanned).toMatchObject({ items: 1, infected: 5 });
    const { rows } = await admin.call('listFinds', { query: { q: 'harmless_sample' } });
    const twice = rows.find((r) => r.places.some((p) => p.path === 'plain.bin'))!;
    expect(twice).toMatchObject({ stillThere: true, points: 2, firstSeen: expect.any(Number) as number });
    expect(twice.places.map((p) => p.path).sort()).toEqual(['plain again.bin', 'plain.bin']);
    expect((await admin.call('listFinds', { query: { q: twice.sum } })).rows).toHaveLength(1);
    expect((await admin.call('listFinds', { query: { q: 'nested' } })).rows[0]).toMatchObject({ stillThere: false });
  });

  it('go over all history by new rules, each content once', async () => {
    const text = 'rule berth_three { meta: grade = "suspect" about = "names berth three" strings: $a = "berth 3 is free" condition: $a }';
    await expect(admin.call('addRules', { body: { name: 'Berths', text: 'rule x { condition: nothing' } })).rejects.toMatchObject({
      code: 'INVALID',
    });
    expect(await admin.call('tryRules', { body: { text, sample: 'berth 3 is free' } })).toEqual({
      problem: null,
      finds: [{ rule: 'berth_three', about: 'names berth three', grade: 'suspect' }],
    });
    const { id } = await admin.call('addRules', { body: { name: 'Berths', text } });
    expect((await pointScan(clean)).verdict).toBe('nothing');
    const run = await scan({ from: 0 });
    // all that ever lay there, but for the copy under another name
    const total = 40 * 19 * 50;
    expect(run.counts.read).toBeGreaterThan(30_000);
    expect(run.counts.read).toBeLessThan(total + 20_000);
    expect(run.counts.files).toBe(47);
    expect(await pointScan(clean)).toMatchObject({
      verdict: 'suspect',
      scanned: { suspect: 1, infected: 0 },
      finds: [{ path: 'plans/p3.txt' }],
    });
    await admin.call('changeRules', { id, body: { name: 'Berths', text, on: false } });
    expect((await admin.call('listRules')).rows.find((r) => r.id === id)).toMatchObject({ on: false, version: 1 });
    await admin.call('removeRules', { id });
  });

  it('are made by themselves where that is wished, and again by rules that are newer', async () => {
    const body = { when: 'always', fromScore: 40, again: 'newest', scanner: '', sensitive: false } as const;
    await admin.call('changeScanSettings', { body });
    for (const name of ['plain.bin', 'plain again.bin', 'packed.gz', 'mail/1.eml', 'dumps/berths.sql']) fs.rmSync(at(name));
    const mended = await night();
    await h.round();
    expect(await pointScan(mended)).toMatchObject({
      verdict: 'nothing',
      scanned: { infected: 0, notLooked: 1 },
      lastClean: { id: mended, verdict: 'nothing' },
    });
    // it still lies there, and nobody has looked into it
    put('plans/later.txt', 'berth 40 is free');
    const same = await night();
    await h.round();
    expect(await pointScan(same)).toMatchObject({ verdict: 'nothing', scanned: { items: 1, notLooked: 1 } });
    fs.rmSync(at('closed.zip'));
    const whole = await night();
    await h.round();
    expect(await pointScan(whole)).toMatchObject({ verdict: 'clean', lastClean: { id: whole } });
    const before = (await admin.call('listRuns', { query: { limit: 1 } })).rows[0]!.id;
    await h.round();
    expect((await admin.call('listRuns', { query: { limit: 1 } })).rows[0]!.id).toBe(before);
  });

  it('are let be for a while once somebody stopped them', async () => {
    await night();
    await h.killMover('mover-1');
    await h.tick();
    const { id } = (await admin.call('listRuns', { query: { limit: 1 } })).rows[0]!;
    await admin.call('stopRun', { id });
    expect((await admin.ended(id)).state).toBe('stopped');
    h.startMover('mover-1');
    await h.moverReady();
    await h.round();
    expect((await admin.call('listRuns', { query: { limit: 1 } })).rows[0]!.id).toBe(id);
    await h.server.deps.db('task').where({ run_id: id }).update({ queued_at: 0 });
    await h.round();
    expect((await rowOf()).unscanned).toBe(0);
  });

  it('leave alone a server that a mover is killed on, and are whole once another goes on', async () => {
    for (let i = 0; i < 400; i++) put(`many/m${i}.txt`, `${i} `.repeat(20_000));
    put('many/planted.txt', sample);
    const point = await night();
    await h.tick();
    await expect.poll(async () => (await admin.call('listRuns', { query: { states: 'running', limit: 1 } })).rows.length).toBe(1);
    await h.killMover('mover-1');
    h.startMover('mover-2');
    await expect
      .poll(
        async () => {
          await h.tick();
          return (await pointScan(point)).verdict;
        },
        { timeout: 60_000, interval: 200 },
      )
      .toBe('infected');
    expect((await pointScan(point)).scanned).toMatchObject({ items: 401, infected: 1 });
  });

  it('are done by a program of the host too, where whoever runs it names one', async () => {
    const body = { when: 'never', again: 'newest', scanner: 'gull', sensitive: false } as const;
    await admin.call('changeScanSettings', { body });
    const failed = await admin.ended((await admin.call('startScan', { body: { workloads: [workloadId] } })).runId);
    expect(failed.cause).toMatchObject({ code: 'SCANNER_FAILED', message: expect.stringContaining('no scanner gull') as string });
    const script = `${h.folder}/gull`;
    fs.writeFileSync(script, '#!/bin/sh\ngrep -rl "berth 7 is free" "$1" | sed "s/$/: Gull.Seven FOUND/"\nexit 1\n', { mode: 0o755 });
    const scanners = { gull: { command: script, args: ['{folder}'], finds: '^(?<file>.+): (?<rule>.+) FOUND$' } };
    fs.writeFileSync(`${h.folder}/mover.json`, JSON.stringify({ scanners }));
    await h.killMover('mover-2');
    h.startMover('mover-3');
    await scan();
    const told = await pointScan((await newest()).id);
    expect(told.finds.map((f) => [f.path, f.rule]).sort()).toEqual([
      ['many/planted.txt', 'harmless_sample'],
      ['plans/p7.txt', 'Gull.Seven'],
    ]);
    expect(fs.readdirSync('/tmp').filter((n) => n.startsWith('lithodex-scanned-'))).toEqual([]);
  });

  it('know contents by their sums: where each is or was, since when, and in which point it can still be had', async () => {
    const sumOf = (data: string | Buffer) => createHash('sha256').update(data).digest('hex');
    const held = (await newest()).id;
    const nowhere = sumOf('never stored');
    const [p7, p9] = [7, 9].map((n) => sumOf(`berth ${n} is free\n`.repeat(50))) as [string, string];
    const told = await admin.call('findTraces', { body: { sums: [p7, nowhere, p9, p7] } });
    expect(told).toMatchObject({ nowhere: [nowhere], more: false, looked: { workloads: 1, of: 1 } });
    const places = new Map(told.rows.map((r) => [r.sum, r.places]));
    // it is there since the first point: the newest one is told
    expect(places.get(p7)).toMatchObject([
      { workload: { name: 'desk' }, path: 'plans/p7.txt', size: 800, goneAt: null, point: { id: held } },
    ]);
    expect(places.get(p9)).toMatchObject([{ path: 'plans/p9.txt', point: { id: held } }]);
    put('plans/p7.txt', 'berth 7 is taken\n');
    fs.renameSync(at('plans/p8.txt'), at('plans/moved.txt'));
    const after = await night();
    await scan();
    const [again] = (await admin.call('findTraces', { body: { sums: [p7] } })).rows;
    const moment = (await newest()).moment;
    expect(again!.places).toMatchObject([{ path: 'plans/p7.txt', goneAt: moment, point: { id: held } }]);
    const moved = await admin.call('findTraces', { body: { sums: [sumOf('berth 8 is free\n'.repeat(50))] } });
    expect(moved.rows[0]!.places.map((p) => [p.path, p.goneAt, p.point?.id])).toEqual([
      ['plans/moved.txt', null, after],
      ['plans/p8.txt', moment, held],
    ]);
    const clerk = await h.as('clerk');
    await expect(clerk.call('findTraces', { body: { sums: [p7] } })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    await expect(admin.call('findTraces', { body: { sums: ['of north.pdf'] } })).rejects.toMatchObject({ code: 'INVALID' });
  });

  itLong(
    'are searched by sums within two seconds over ten million contents',
    async () => {
      const { db } = h.server.deps;
      const { no } = await db('series').first<{ no: number }>('no');
      for (let from = 0; from < 10_000_000; from += 500_000)
        await db.raw(
          `INSERT INTO seen_sum (series_no, path_hash, path, size, sum, from_at, to_at)
           SELECT ?, UNHEX(MD5(seq)), CONCAT('many/', seq), 1, UNHEX(SHA2(seq, 256)), 1, 2 FROM seq_${from + 1}_to_${from + 500_000}`,
          [no],
        );
      const sums = Array.from({ length: 500 }, (_, i) =>
        createHash('sha256')
          .update(String(i * 19_999 + 1))
          .digest('hex'),
      );
      const began = performance.now();
      const { rows } = await admin.call('findTraces', { body: { sums } });
      const took = performance.now() - began;
      process.stdout.write(`500 sums among ten million in ${Math.round(took)} ms\n`);
      expect(rows).toHaveLength(500);
      expect(took).toBeLessThan(2000);
      await db('seen_sum').where('path', 'like', 'many/%').delete();
    },
    1_200_000,
  );

  itLong('are done by a scanner that is widely used, with signatures of our own', async () => {
    const hex = Buffer.from('berth 9 is free').toString('hex');
    fs.writeFileSync(`${h.folder}/own.ndb`, `Own.Nine:0:*:${hex}\n`);
    const args = ['--no-summary', '-d', `${h.folder}/own.ndb`, '-r', '{folder}'];
    const scanners = { gull: { command: '/usr/bin/clamscan', args, finds: '^(?<file>.+): (?<rule>.+) FOUND$' } };
    fs.writeFileSync(`${h.folder}/mover.json`, JSON.stringify({ scanners }));
    await h.killMover('mover-3');
    h.startMover('mover-4');
    put('late.txt', 'berth 9 is free');
    const point = await night();
    await scan();
    const told = await pointScan(point);
    expect(told.finds.filter((f) => f.rule.startsWith('Own.Nine')).map((f) => f.path)).toEqual(['late.txt']);
  });
});

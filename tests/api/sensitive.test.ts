import fs from 'node:fs';
import path from 'node:path';
import yazl from 'yazl';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let workloadId: number;
let source: string;
let policyId: number;
const day = 86_400_000;
const clock = { at: Date.UTC(2027, 1, 1, 3), now: () => clock.at };

const put = (name: string, content: string | Buffer, mode = 0o600) => {
  const file = path.join(source, name);
  fs.mkdirSync(path.dirname(file), { recursive: true });
  fs.writeFileSync(file, content);
  fs.chmodSync(file, mode);
};
const card = '4000 0000 0000 0002';
const account = 'NO93 8601 1117 947';

async function sheetOf(text: string): Promise<Buffer> {
  const zip = new yazl.ZipFile();
  zip.addBuffer(Buffer.from(`<?xml version="1.0"?><sst><si><t>name</t></si><si><t>${text}</t></si></sst>`), 'xl/sharedStrings.xml');
  zip.end();
  const pieces: Buffer[] = [];
  for await (const piece of zip.outputStream as unknown as AsyncIterable<Buffer>) pieces.push(piece);
  return Buffer.concat(pieces);
}

beforeAll(async () => {
  h = await Harness.start({ schedulerMs: 0, clock });
  admin = await h.as('administrator');
  const connected = await h.connect(admin, 'desk');
  ({ workloadId, source } = connected);
  put('pay/cards.txt', `${card}\n${card}\nnothing\n`, 0o644);
  put('pay/plain.txt', 'berth 3 is free\n');
  put('pay/accounts.xlsx', await sheetOf(`${account} and ${account}`));
  const body = policyFor([workloadId], connected.targetId, {
    schedule: { every: 'hand' },
    changeLimit: 100,
    keep: { by: 'days', days: 400 },
  });
  policyId = (await admin.call('addPolicy', { body })).id;
  await admin.call('changeScanSettings', { body: { when: 'always', fromScore: 40, again: 'newest', scanner: '', sensitive: true } });
});
afterAll(() => h.stop());

async function night(): Promise<void> {
  clock.at += day;
  await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
  await h.round();
}
const told = () => admin.call('listSensitive', { query: { days: 14 } });
const files = (query: object = {}) => admin.call('sensitiveFiles', { query });

describe('sensitive data', () => {
  it('is found in texts and documents, with who may read it, and shown covered', async () => {
    expect(await told()).toMatchObject({ on: true, looked: 0, rows: [], jump: null });
    await night();
    const all = await told();
    expect(all).toMatchObject({ looked: 1, jump: null });
    expect(all.rows.map((r) => [r.pattern, r.findings, r.files, r.open, r.since]).sort()).toEqual([
      ['account', 2, 1, 0, null],
      ['card', 2, 1, 2, null],
    ]);
    expect((await files()).rows.map((r) => [r.path, r.readers, r.counts[0]!.sample])).toEqual(
      expect.arrayContaining([
        ['pay/cards.txt', 'everybody', `${'•'.repeat(16)}002`],
        ['pay/accounts.xlsx', 'owner', `${'•'.repeat(15)}947`],
      ]),
    );
    expect(await files({ pattern: 'card' })).toMatchObject({ files: 1, findings: 2, next: null });
    expect(await files({ q: 'xlsx' })).toMatchObject({ files: 1 });
    expect(JSON.stringify(await files())).not.toContain('0000 0000');
  });

  it('goes with the file that held it, and a rise is named by what it came of', async () => {
    for (let i = 0; i < 3; i++) await night();
    put('pay/many.csv', Array.from({ length: 60 }, () => card).join('\n'));
    await night();
    put('pay/cards.txt', 'nothing any more\n');
    // as many stand there as did: it is the same finding, since when it was
    put('pay/accounts.xlsx', await sheetOf(`${account} or ${account}`));
    await night();
    const listed = (await files({ q: 'accounts' })).rows[0]!;
    expect(listed.since).toBeLessThan((await files({ q: 'many' })).rows[0]!.since);
    const all = await told();
    expect(all.rows.find((r) => r.pattern === 'card')).toMatchObject({ findings: 60, files: 1, open: 0 });
    expect(all.jump).toMatchObject({ added: 60, pattern: 'card', why: 'newData', workload: { id: workloadId } });
    const line = all.lines.find((l) => l.pattern === 'card')!.findings;
    expect(line.at(-1)).toBe(60);
    expect(line.at(-2)).toBe(62);
    expect(line.at(-4)).toBe(2);
    expect(line[0]).toBe(0);
  });

  it('is read uncovered by an administrator only, with a reason, which the trail keeps', async () => {
    const body = { workload: workloadId, path: 'pay/many.csv', pattern: 'card', reason: 'the auditors ask' };
    const shown = await admin.call('showSensitive', { body });
    expect(shown.findings).toHaveLength(20);
    expect(shown.findings[0]).toMatchObject({ text: card });
    const trail = await admin.call('audit', { query: { limit: 1 } });
    expect(trail.rows[0]).toMatchObject({ action: 'sensitive.show', detail: expect.stringContaining('the auditors ask') as string });
    await expect(admin.call('showSensitive', { body: { ...body, path: '../../etc/passwd' } })).rejects.toMatchObject({ code: 'NOT_FOUND' });
    const operator = await h.as('operator');
    await expect(operator.call('showSensitive', { body })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    const csv = await (await admin.fetch('sensitiveCsv', { query: { workload: workloadId } })).text();
    expect(csv.split('\r\n')[1]).toMatch(/^desk,pay\/many\.csv,.*,owner,card,60,•+002,2027-02-/);
    expect(csv).not.toContain('0000 0000');
  });

  it('is not counted twice where older points are scanned once more', async () => {
    const before = await told();
    const text = 'rule new_one { strings: $a = "nobody writes this" condition: $a }';
    const { id } = await admin.call('addRules', { body: { name: 'New', text } });
    await admin.ended((await admin.call('startScan', { body: { workloads: [workloadId], from: 0 } })).runId);
    expect((await told()).lines).toEqual(before.lines);
    expect((await told()).rows).toEqual(before.rows);
    await admin.call('removeRules', { id });
  });

  it('is looked for in backups only: the source may be gone', async () => {
    put('pay/late.txt', card);
    clock.at += day;
    await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
    fs.rmSync(source, { recursive: true });
    await h.round();
    expect(await files({ q: 'late' })).toMatchObject({ files: 1 });
  });
});

import fs from 'node:fs';
import type { Report, ReportName } from '@lithodex/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

const [hour, day] = [3_600_000, 86_400_000];
const clock = { at: Date.UTC(2027, 2, 1, 8), now: () => clock.at };
let h: Harness;
let admin: Client;
let workloadId: number;

beforeAll(async () => {
  h = await Harness.start({ clock, schedulerMs: 0 });
  admin = await h.as('administrator');
  const { source, ...ids } = await h.connect(admin);
  workloadId = ids.workloadId;
  const { id } = await admin.call('addPolicy', { body: policyFor([workloadId], ids.targetId, { objectiveHours: 24 }) });
  const run = async () => {
    const { runId } = await admin.call('runPolicy', { id, body: {} });
    await admin.ended(runId);
  };
  for (let i = 0; i < 3; i++) {
    clock.at += day;
    fs.writeFileSync(`${source}/log-${i}`, Buffer.alloc(100_000 * (i + 1), i + 1));
    await run();
  }
  fs.renameSync(source, `${source}-away`);
  clock.at += day;
  await run();
  fs.renameSync(`${source}-away`, source);
  clock.at += 6 * hour;
  const point = (await admin.call('workload', { id: workloadId })).pointList.at(-1)!;
  const { runId } = await admin.call('startRestore', {
    body: {
      name: '=HYPERLINK("http://x")',
      reason: 'The log was emptied, "twice"',
      picks: [{ pointId: point.id, path: 'log-0' }],
      destination: { to: 'original' },
    },
  });
  await admin.ended(runId);
  clock.at += 1000;
  fs.mkdirSync(`${h.folder}/open`);
  await admin.call('addSource', { body: { name: 'quay-open', folder: `${h.folder}/open` } });
});
afterAll(() => h.stop());

const report = (id: ReportName, query: { from?: number; to?: number } = {}) => admin.call('report', { id, query });
/** Rows as records by the names of the columns. */
const records = ({ columns, rows }: Report) => rows.map((row) => Object.fromEntries(row.map((cell, i) => [columns[i]!.name, cell])));

describe('reports', () => {
  it('count what went well, by policy', async () => {
    const found = await report('success');
    expect(found.says).toBe('75 % of 4 backups went well.');
    expect(records(found)).toEqual([
      expect.objectContaining({ Policy: 'Server room', 'Went well': 0.75, Backups: 4, Well: 3, Failed: 1, 'Parts missing': 0 }),
    ]);
    expect((await report('success', { from: clock.at - 40 * day, to: clock.at - 30 * day })).rows).toEqual([]);
  });

  it('tell how the objective was kept', async () => {
    const [row] = records(await report('objectives', { from: clock.at - 2 * day }));
    // the newest point was 30 hours old at the end: six of 48 hours too old
    expect(row).toMatchObject({ Workload: 'quay-1', Objective: 24 * hour, 'Times too old': 1 });
    expect(row?.['Kept']).toBeCloseTo(1 - 6 / 48, 2);
    expect(Number(row?.['Oldest it became']) / hour).toBeCloseTo(30, 1);
  });

  it('list what is protected, the unprotected first, also as it was', async () => {
    const found = await report('coverage');
    expect(found.says).toBe('2 workloads, 1 of them unprotected.');
    expect(records(found).map((r) => [r['Workload'], r['Coverage']])).toEqual([
      ['quay-open', 'unprotected'],
      ['quay-1', 'protected'],
    ]);
    expect((await report('coverage', { to: clock.at - 12 * hour })).rows).toHaveLength(1);
  });

  it('tell what grew and what was written', async () => {
    const [row] = records(await report('growth'));
    expect(row).toMatchObject({ Workload: 'quay-1', 'Size, first point': 100_000, 'Size, last point': 600_000, Growth: 5, Points: 3 });
    expect(Number(row?.['Written'])).toBeGreaterThan(0);
  });

  it('tell who restored what, and why', async () => {
    const found = await report('restores');
    expect(found.says).toBe('1 restore by one person.');
    expect(records(found)[0]).toMatchObject({ By: 'administrator', Why: 'The log was emptied, "twice"', Workloads: 'quay-1', Items: 1 });
  });

  it('come as CSV that no spreadsheet takes for formulas', async () => {
    const answer = await admin.fetch('reportFile', { id: 'restores' });
    expect(answer.headers.get('content-type')).toContain('text/csv');
    expect(answer.headers.get('content-disposition')).toMatch(/attachment; filename="?restores-2027-02-03-to-2027-03-05\.csv/);
    const text = await answer.text();
    expect(text).toMatch(/^Asked for \(UTC\),By,Why,/);
    expect(text).toContain(`"'=HYPERLINK(""http://x"")"`);
    expect(text).toContain('2027-03-05T14:00:00.000Z,administrator');
  });

  it('refuse times that make no sense, and names that are none', async () => {
    await expect(report('growth', { from: clock.at, to: clock.at - 1 })).rejects.toMatchObject({ code: 'INVALID' });
    await expect(report('growth', { from: clock.at - 4000 * day })).rejects.toMatchObject({ code: 'INVALID' });
    await expect(report('nothing' as ReportName)).rejects.toMatchObject({ code: 'INVALID' });
  });
});

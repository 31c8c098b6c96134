import { delay, of } from 'rxjs';
import { describe, expect, it, vi } from 'vitest';
import { treeRow, uuid, workloadDetail } from '../../test/samples';
import { day, now, open, words } from '../../test/stage';

const commit = (at: number, position: number, statement: string, change: string, rows: number) => ({
  at,
  file: 'changes.000002',
  position,
  id: `0-7-${position}`,
  statement,
  tables: [{ database: 'tariffs', table: 'tariff', change, rows }],
});
const gone = commit(now - day, 500, 'DELETE FROM tariff', 'deleted', 4812);
const band = {
  stretches: [
    { from: now - 5 * day, logged: now - 5 * day, to: now - 4 * day, cause: '' },
    { from: now - 3 * day, logged: now - 3 * day, to: now - 60_000, cause: 'the log was purged' },
  ],
  fulls: [
    { pointId: uuid(1), moment: now - 5 * day, logged: true, bytes: 1e6 },
    { pointId: uuid(2), moment: now - 3 * day, logged: true, bytes: 1e6 },
  ],
  log: { pointId: uuid(3), moment: now, bytes: 5e5 },
  objectiveMinutes: 15,
  notable: [gone],
};
const commits = [
  commit(now - day - 5000, 400, 'UPDATE tariff', 'updated', 1),
  gone,
  commit(now - day + 9000, 600, 'INSERT INTO tariff', 'inserted', 2),
];
const plan = {
  items: [],
  total: { items: 1, files: 1, bytes: 9, picks: 1 },
  readFrom: [],
  copies: [],
  price: null,
  estimateMs: null,
  rate: null,
  rateFrom: '',
  checks: [{ code: 'CHAIN', level: 'fine', text: 'The full is loaded.' }],
  existing: { looked: 0, exist: 0, newer: 0, complete: true },
  rescue: { workload: 'berths-a', target: 'quay-disk' },
  free: null,
};
const trees = (path: string) =>
  path === ''
    ? [treeRow('tariffs', { path: 'tariffs', kind: 'folder' })]
    : [treeRow('tariff.sql', { path: 'tariffs/tables/tariff.sql', kind: 'file' })];

const stage = (url: string) =>
  open(url, {
    answers: {
      workload: workloadDetail([], { id: 3, name: 'berths-a', kind: 'database', policies: [] }),
      databaseBand: band,
      databaseCommits: { rows: commits },
      // a person is quicker
      tree: ({ query }: { query?: Record<string, unknown> }) =>
        of({
          path: '',
          rows: trees((query?.['path'] as string | undefined) ?? ''),
          next: null,
          notLookedAt: false,
          inside: false,
        }).pipe(delay(100)),
      listSystems: { rows: [] },
      planRestore: plan,
      startRestore: { runId: 9 },
    },
  });

describe('back to a second', () => {
  it('goes right before a commit that took much away, for the table it was taken from', async () => {
    const s = await stage('/estate/3/second');
    await vi.waitFor(() => {
      expect(words(s.one('.notable'))).toMatch(/4.812 rows of tariff/);
    });
    s.one('.notable button').click();
    await vi.waitFor(() => {
      expect(s.url()).toContain(`commit=changes.000002@500`);
    });
    await vi.waitFor(() => {
      expect(s.api.last('planRestore')?.body).toMatchObject({
        picks: [{ pointId: uuid(2), path: 'tariffs/tables/tariff.sql' }],
        until: { file: 'changes.000002', position: 500, at: gone.at },
        rule: 'beside',
        destination: { to: 'original' },
      });
    });
    expect(words(s.one('table'))).toContain('to right before this one');
  });

  it('draws gaps with their cause, and takes no restore without a reason', async () => {
    const s = await stage('/estate/3/second');
    await vi.waitFor(() => {
      expect(s.one('lx-second-band').textContent).toContain('the log was purged');
    });
    await vi.waitFor(() => {
      expect(words(s.one('aside'))).toContain('when you say why');
    });
    expect(s.api.of('startRestore')).toEqual([]);
  });

  it('takes a point of what is there first, unless one says not to', async () => {
    const s = await stage('/estate/3/second');
    await vi.waitFor(() => {
      expect(words(s.one('lx-rescue-tick'))).toBe('first take a point of berths-a to quay-disk, as it is now');
    });
    expect(s.api.last('planRestore')?.body).toMatchObject({ rescue: true });
    s.one('lx-rescue-tick input').click();
    await vi.waitFor(() => {
      expect(s.api.last('planRestore')?.body).toMatchObject({ rescue: false });
    });
  });
});

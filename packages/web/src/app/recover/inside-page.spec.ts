import { describe, expect, it } from 'vitest';
import { open, words, type Answers } from '../../test/stage';
import { ApiFailure } from '../data/api';

const inside = {
  until: Date.UTC(2026, 10, 29, 14),
  tables: [
    { database: 'berths', table: 'ship', rows: 2, bytes: 16_384 },
    { database: 'tariffs', table: 'tariff', rows: 120, bytes: 65_536 },
  ],
  workload: 'berths-a',
  workloadId: 12,
  at: Date.UTC(2026, 10, 28, 13, 3),
  mover: 'mover-1',
  comparable: true,
  toSecond: true,
  commit: 'changes.000002@4711',
};
const rows = {
  columns: ['id', 'goods'],
  key: ['id'],
  rows: [
    ['7', '<b>salt</b>'],
    ['8', null],
  ],
  more: true,
  offset: 0,
};
const compared = {
  server: 'berths-a',
  columns: ['id', 'goods'],
  key: ['id'],
  counts: { now: 119, then: 120, added: 0, changed: 0, gone: 1 },
  rows: [{ change: 'gone', now: null, then: ['7', 'salt'] }],
};

describe('a look inside a scratch server', () => {
  const stage = (url = '/runs/7/inside', answers: Answers = {}) =>
    open(url, { answers: { inside, insideRows: rows, insideDifference: compared, endInside: {}, ...answers } });

  it('lists what it holds, and says that nothing else is written', async () => {
    const s = await stage();
    expect(words(s.one('h1'))).toContain('berths-a as of');
    expect(s.all('.tables li').map((li) => words(li))).toEqual(['berths. ship 2', 'tariffs. tariff 120']);
    expect(words(s.one('.empty'))).toContain('2 tables, as they were');
    await s.type('[aria-label="Filter tables"]', 'tari');
    expect(s.all('.tables li')).toHaveLength(1);
  });

  it('shows rows as texts, those that hold something, and page by page', async () => {
    const s = await stage('/runs/7/inside?database=tariffs&table=tariff');
    expect(s.all('tbody tr').map((r) => words(r))).toEqual(['7 <b>salt</b>', '8 nothing']);
    expect(s.api.last('insideRows')).toMatchObject({ id: 7, query: { database: 'tariffs', table: 'tariff', offset: 0 } });
    await s.click('After');
    expect(s.api.last('insideRows')).toMatchObject({ query: { offset: 100 } });
    const box = s.one<HTMLInputElement>('[aria-label="Text that it holds"]');
    box.value = 'salt';
    box.dispatchEvent(new Event('change'));
    await s.settle();
    expect(s.api.last('insideRows')).toMatchObject({ query: { column: 'id', text: 'salt', offset: 0 } });
  });

  it('compares with what stands there now, and leads to where the table is brought back', async () => {
    const s = await stage('/runs/7/inside?database=tariffs&table=tariff');
    await s.click('Against now');
    expect(s.api.last('insideDifference')).toMatchObject({ id: 7, query: { database: 'tariffs', table: 'tariff' } });
    expect(words(s.one('.facts'))).toContain('Gone 1');
    const link = s.all('a').find((a) => words(a).startsWith('Bring this table back'))!;
    expect(link.getAttribute('href')).toContain('/estate/12/second?');
    expect(decodeURIComponent(link.getAttribute('href')!)).toContain('what=tariffs/tables/tariff.sql');
    expect(decodeURIComponent(link.getAttribute('href')!)).toContain('commit=changes.000002@4711');
  });

  it('is ended by hand', async () => {
    const s = await stage();
    await s.click('End it now');
    expect(s.one('[role=alert]').textContent).toContain('was ended');
  });

  it('says that it is not there any more', async () => {
    const s = await stage('/runs/7/inside', {
      inside: new ApiFailure('MOVER_FAILED', 'The scratch server is not up any more.', undefined),
    });
    expect(s.one('[role=alert]').textContent).toContain('not up any more');
  });
});

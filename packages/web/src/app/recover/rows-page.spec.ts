import { describe, expect, it } from 'vitest';
import { uuid } from '../../test/samples';
import { open, words, type Answers } from '../../test/stage';
import { ApiFailure } from '../data/api';

const path = 'tariffs/tables/tariff.sql';
const table = { taskId: uuid(1), path, database: 'tariffs', table: 'tariff', suffix: '_1128_1403' };
const compared = {
  server: 'berths-a',
  columns: ['id', 'goods', 'cents'],
  key: ['id'],
  counts: { now: 3, then: 4, added: 1, changed: 1, gone: 2 },
  rows: [
    { change: 'gone', now: null, then: ['7', '<b>salt</b>', null] },
    { change: 'changed', now: ['8', 'ice', '90'], then: ['8', 'ice', '80'] },
    { change: 'added', now: ['9', 'wool', '1'], then: null },
  ],
};
const same = { ...compared, counts: { now: 4, then: 4, added: 0, changed: 0, gone: 0 }, rows: [] };

describe('rows of a table that was restored beside another', () => {
  const stage = (answers: Answers = {}, url = `/runs/7/rows?task=${uuid(1)}&path=${path}`) =>
    open(url, { answers: { besideTables: { rows: [table] }, besideRows: compared, ...answers } });

  it('are told apart by what became of them, with values as texts', async () => {
    const s = await stage();
    expect(s.api.last('besideRows')).toMatchObject({ id: 7, query: { task: uuid(1), path } });
    expect(s.one('h1').textContent).toBe('tariff, now and then');
    expect(words(s.one('.facts'))).toBe('Rows now 3 Rows restored 4 Gone 2 Changed 1 New 1');
    const rows = s.all('tbody tr').map((r) => words(r));
    expect(rows[0]).toBe('gone 7 <b>salt</b> nothing');
    expect(rows[1]).toBe('changed 8 ice 80 90');
    await s.click('1 new');
    expect(s.all('tbody tr').map((r) => words(r))).toEqual(['new 9 wool 1']);
  });

  it('are swapped with a reason, and say so', async () => {
    const s = await stage({ swapBeside: { remarks: ['the key of_ship holds for new rows only'] } });
    await s.click('Swap the two …');
    expect(words(s.one('[role=dialog] p'))).toContain('tariff holds 4 rows afterwards, as restored. The 3 rows of now stay beside it');
    expect(words(s.one('[role=dialog]'))).toContain('2 rows of now, new or changed since, are only beside it then.');
    expect(s.one<HTMLButtonElement>('[role=dialog] .go').disabled).toBe(true);
    await s.type('[name=reason]', 'the import emptied it');
    await s.click('Swap them');
    expect(s.api.last('swapBeside')).toMatchObject({ id: 7, body: { task: uuid(1), path, reason: 'the import emptied it' } });
    expect(s.one('[role=status]').textContent).toContain('The two were swapped');
    expect(s.one('.said.w').textContent).toContain('of_ship');
    expect(s.api.of('besideRows')).toHaveLength(2);
  });

  it('say why they can not be swapped', async () => {
    const refused = new ApiFailure('MOVER_FAILED', 'The two tables can not be swapped: the trigger kept would stay.', undefined);
    const s = await stage({ swapBeside: refused });
    await s.click('Swap the two …');
    await s.type('[name=reason]', 'the import emptied it');
    await s.click('Swap them');
    expect(s.one('[role=dialog] [role=alert]').textContent).toContain('the trigger kept');
  });

  it('say why they can not be compared', async () => {
    const s = await stage({ besideRows: new ApiFailure('MOVER_FAILED', 'The table has no key.', undefined) });
    expect(s.one('[role=alert]').textContent).toContain('no key');
  });

  it('leave nothing to swap where they are the same', async () => {
    const s = await stage({ besideRows: same });
    expect(s.one('.empty').textContent).toContain('the same rows');
    expect(s.all('button').map((b) => words(b))).not.toContain('Swap the two …');
  });
});

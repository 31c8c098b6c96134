import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, type Client } from '../support/harness';

let h: Harness;
let operator: Client;
beforeAll(async () => {
  h = await Harness.start({ movers: 0, schedulerMs: 0 });
  operator = await h.as('operator');
});
afterAll(() => h.stop());

const names = async (who: Client) => (await who.call('listFilters')).rows.map((f) => [f.name, f.query]);

describe('named filters', () => {
  it('belong to one person, and are replaced by name', async () => {
    await operator.call('saveFilter', { body: { name: 'Lately', query: { hours: '24' } } });
    const { id } = await operator.call('saveFilter', { body: { name: 'Lately', query: { hours: '8', q: '"; DROP' } } });
    expect(await names(operator)).toEqual([['Lately', { hours: '8', q: '"; DROP' }]]);
    const clerk = await h.as('clerk');
    expect(await names(clerk)).toEqual([]);
    await expect(clerk.call('removeFilter', { id })).rejects.toMatchObject({ code: 'NOT_FOUND' });
    await operator.call('removeFilter', { id });
    expect(await names(operator)).toEqual([]);
  });

  it('are not kept for tokens, nor without end', async () => {
    const token = await h.withToken('operator');
    await expect(token.call('saveFilter', { body: { name: 'x', query: {} } })).rejects.toMatchObject({ code: 'INVALID' });
    for (let i = 0; i < 50; i++) await operator.call('saveFilter', { body: { name: `f${i}`, query: { q: String(i) } } });
    await expect(operator.call('saveFilter', { body: { name: 'one more', query: { q: 'x' } } })).rejects.toMatchObject({ code: 'INVALID' });
    await operator.call('saveFilter', { body: { name: 'f0', query: { q: 'changed' } } });
    expect(await names(operator)).toHaveLength(50);
  });
});

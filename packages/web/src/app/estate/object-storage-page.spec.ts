import { describe, expect, it } from 'vitest';
import { now, open, words } from '../../test/stage';

const tested = {
  ok: true,
  message: 'The service answers; not everything is allowed.',
  needs: [
    { right: 'List buckets', neededFor: 'to find what there is', missing: false },
    { right: 'Read tags of objects of soundings', neededFor: 'to bring them back with their tags', missing: true },
  ],
  remarks: ['2 buckets.', 'The account lacks a right.'],
  credentialEnds: null,
  found: 2,
};
const address = {
  kind: 'bucket',
  endpoint: 'https://objects.example',
  region: 'us-east-1',
  accessKey: 'keeper',
  buckets: ['soundings', 'old.logs'],
  accessLists: false,
  versions: true,
  prices: null,
  authority: null,
};
const known = {
  id: 9,
  name: 'Survey storage',
  location: 'Lighthouse',
  address,
  readBy: null,
  credentialEnds: null,
  readAt: now,
  trouble: 'The object storage does not answer.',
  workloads: [{ id: 3, name: 'soundings' }],
};

describe('the connection to an object storage', () => {
  it('is tested right by right, and saved', async () => {
    const answers = { listSystems: { rows: [] }, testSystem: tested, addSystem: { id: 9, workloads: [3, 4] } };
    const s = await open('/estate/storages/new', { answers });
    expect(words(s.one('aside'))).toContain('It never has to delete any.');
    await s.click('Connect');
    expect(s.api.of('addSystem')).toEqual([]);
    await s.type('input[name=name]', 'Survey storage');
    await s.type('input[name=endpoint]', 'https://objects.example');
    await s.type('input[name=access-key]', 'keeper');
    await s.type('input[name=secret-key]', 'gulls');
    await s.type('textarea[name=only]', 'soundings\nold.logs');
    s.one<HTMLInputElement>('input[name=versions]').click();
    await s.click('Test the connection');
    const body = { name: 'Survey storage', location: '', readBy: null, address, secret: 'gulls' };
    expect(s.api.last('testSystem')?.body).toEqual({ id: null, body });
    expect(words(s.one('aside'))).toContain('Read tags of objects of soundings to bring them back with their tags');
    await s.click('Connect');
    expect(s.api.last('addSystem')?.body).toEqual(body);
    expect(s.url()).toBe('/estate');
  });

  it('that is known is filled in without what opens it, and says what ails it', async () => {
    const s = await open('/estate/storages/9', { answers: { listSystems: { rows: [known] }, changeSystem: {} } });
    expect(words(s.one('.problem'))).toContain('does not answer');
    expect(s.one<HTMLInputElement>('input[name=secret-key]').value).toBe('');
    await s.click('Save the connection');
    expect(s.api.last('changeSystem')?.body).toEqual({
      name: 'Survey storage',
      location: 'Lighthouse',
      readBy: null,
      address,
      secret: null,
    });
  });

  it('tells what its runs cost there, by what they asked', async () => {
    const prices = { currency: 'EUR', perGbMonth: 0.02, perGbRead: 0, perThousandLists: 0.005, perThousandReads: 0.0004 };
    const row = { workload: { id: 3, name: 'soundings' }, runs: 30, lists: 300, reads: 400, facts: 500, bytes: 2e6 };
    const use = { days: 30, rows: [{ ...row, holds: { objects: 10_000, bytes: 5e11 } }], looking: { lists: 240, facts: 240 } };
    const priced = { ...known, trouble: null, address: { ...address, prices } };
    const s = await open('/estate/storages/9', { answers: { listSystems: { rows: [priced] }, storageUse: use, changeSystem: {} } });
    const told = words(s.one('aside'));
    expect(told).toContain('30 runs: 300 pages, 900 other requests');
    expect(told).toContain('EUR 0.0019');
    expect(told).toContain('EUR 10.00');
    expect(told).toContain('EUR 0.0540');
    s.one<HTMLInputElement>('input[name=says-prices]').click();
    await s.click('Save the connection');
    expect(s.api.last('changeSystem')?.body).toMatchObject({ address: { prices: null } });
  });
});

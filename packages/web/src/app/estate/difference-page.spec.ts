import { TestBed } from '@angular/core/testing';
import { describe, expect, it } from 'vitest';
import type { Difference, Different } from '@lithodex/contract';
import { point, uuid, workloadDetail } from '../../test/samples';
import { day, now, open, words, type Call } from '../../test/stage';
import { Picks } from '../data/picks';

const side = (more: Partial<NonNullable<Different['then']>> = {}) => ({
  kind: 'file',
  size: 1000,
  mtimeNs: '0',
  mode: 0o644,
  uid: 0,
  gid: 0,
  ...more,
});
const points = [3, 2, 1].map((age, i) => point(i + 1, now - age * day));
const rows: Different[] = [
  { path: 'plans/<b>.txt', change: 'changed', then: side(), after: side({ size: 2000, mode: 0o600 }) },
  { path: 'plans/old.txt', change: 'gone', then: side(), after: null },
  { path: 'plans/new.txt', change: 'added', then: null, after: side() },
];
const difference = (call: Call): Difference => ({
  from: { pointId: uuid(2), moment: now - 2 * day },
  to: { pointId: uuid(3), moment: now - day },
  counts: { changed: 1, gone: 1, added: 1, unseen: 0 },
  rows: call.query?.['cursor'] ? [{ ...rows[2]!, path: 'plans/later.txt' }] : rows,
  next: call.query?.['cursor'] ? null : '500',
});
const answers = { workload: workloadDetail(points), difference };

describe('two points beside each other', () => {
  it('are the newest and the one before it, what changed told property by property', async () => {
    const s = await open('/estate/1/difference', { answers });
    expect(s.api.last('difference')).toMatchObject({ id: uuid(3), query: { with: uuid(2), show: 'all' } });
    const told = s.all('tbody tr').map(words);
    expect(told[0]).toContain('plans/<b>.txt changed size 1.00 kB → 2.00 kB, rights 0644 → 0600');
    expect(told[1]).toContain('gone');
    expect(told[2]).toContain('new');
    expect(s.all('tbody b').map(words)).toEqual(['changed']);
    await s.click('Show more');
    expect(s.all('tbody tr')).toHaveLength(4);
  });

  it('are chosen, narrowed, had as CSV, and give items as they were', async () => {
    const s = await open('/estate/1/difference', { answers });
    await s.choose('[aria-label="The earlier point"]', uuid(1));
    expect(s.api.last('difference')).toMatchObject({ query: { with: uuid(1) } });
    await s.click('1 gone');
    expect(s.url()).toContain('show=gone');
    expect(s.button('CSV').getAttribute('href')).toBe(`/api/v1/points/${uuid(3)}/difference/csv?with=${uuid(1)}&show=gone`);
    await s.click(s.one('[aria-label="Pick plans/old.txt as it was"]'));
    expect(TestBed.inject(Picks).items()).toMatchObject([{ pointId: uuid(2), path: 'plans/old.txt' }]);
  });
});

import { describe, expect, it } from 'vitest';
import { ApiFailure } from '../data/api';
import { day, hour, now, open, words } from '../../test/stage';

const id = (n: number) => `00000000-0000-4000-8000-${String(n).padStart(12, '0')}`;
const [first, second] = ['a'.repeat(64), 'b'.repeat(64)];
const place = (name: string, more: object = {}) => ({
  workload: { id: 3, name },
  path: 'charts/<b>north</b>.pdf',
  size: 1200,
  firstSeen: now - 3 * day,
  goneAt: null,
  point: { id: id(1), moment: now - hour },
  ...more,
});
const traces = {
  rows: [{ sum: first, places: [place('charts-nas'), place('gate-cams', { goneAt: now - day, point: null })] }],
  nowhere: [second],
  more: false,
  looked: { workloads: 3, of: 5 },
};

describe('a search for traces by sums', () => {
  it('takes what was pasted whatever stands around it, and says where each is, and how far that goes', async () => {
    const s = await open('/trust/traces', { answers: { findTraces: traces } });
    expect(s.button('Find them').disabled).toBe(true);
    await s.type('textarea', `${first.toUpperCase()}  north.pdf\n* ${second}, ${first}`);
    await s.click('Find 2 sums');
    expect(s.api.last('findTraces')?.body).toEqual({ sums: [first, second] });
    expect(s.url()).toBe(`/trust/traces?q=${first},${second}`);
    const said = words(s.one('.said'));
    expect(said).toContain('1 content found in 2 places, 1 of them still there; 1 sum nowhere.');
    expect(said).toContain('of the newest points of 3 of 5 workloads: of the others nothing can be said');
    const rows = s.all('tbody tr').map((r) => words(r));
    expect(rows[0]).toBe(first);
    expect(rows[1]).toMatch(/^charts-nas charts\/<b>north<\/b>.pdf 1.20 kB .* still there$/);
    expect(rows[2]).toMatch(/^gate-cams .* gone .* in no point any more$/);
  });

  it('is opened by an address that somebody sent', async () => {
    const s = await open(`/trust/traces?q=${second}`, { answers: { findTraces: { ...traces, rows: [] } } });
    expect(s.api.of('findTraces')).toHaveLength(1);
    expect(s.one<HTMLTextAreaElement>('textarea').value).toBe(second);
    expect(s.text()).toContain('No trace; 1 sum nowhere.');
  });

  it('keeps what was pasted beside a refusal, and says where there is nothing to search for', async () => {
    const s = await open('/trust/traces', { answers: { findTraces: new ApiFailure('INVALID', 'That is no sum.', undefined) } });
    await s.type('textarea', 'north.pdf');
    expect(s.text()).toContain('there is no such sum in it');
    await s.type('textarea', first);
    await s.click('Find 1 sum');
    expect(s.one('[role=alert]').textContent).toContain('That is no sum.');
    expect(s.one<HTMLTextAreaElement>('textarea').value).toBe(first);
  });
});

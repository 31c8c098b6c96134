import { describe, expect, it, vi } from 'vitest';
import { day, hour, now, open, words } from '../../test/stage';
import { ApiFailure } from '../data/api';

const columns = [
  { name: 'Policy', as: 'text' },
  { name: 'Went well', as: 'share' },
  { name: 'Written', as: 'bytes' },
  { name: 'Newest', as: 'moment' },
  { name: 'Took', as: 'span' },
  { name: 'Backups', as: 'count' },
];
const report = (call: { id?: unknown; query?: Record<string, unknown> }) => ({
  name: call.id,
  from: Number(call.query?.['from']),
  to: Number(call.query?.['to']),
  says: '98 % of 1200 backups went well.',
  columns,
  rows: [
    ['=cmd', 0.976, 4.12e9, now - hour, 90_000, 1200],
    ['Empty', null, null, null, null, 0],
  ],
});

describe('reports', () => {
  it('show what was asked for in units, over the time in the address', async () => {
    const s = await open('/reports', { answers: { report } });
    expect(s.api.last('report')).toMatchObject({ id: 'success', query: { from: now - 30 * day, to: now } });
    const rows = s.all('tbody tr').map((r) => words(r));
    expect(rows[0]).toBe('=cmd 98 % 4.12 GB Mon 23 Nov 08:00 1 min 30 s 1\u202f200');
    expect(rows[1]).toBe('Empty – – – – 0');
    expect(s.text()).toContain('98 % of 1200 backups went well.');
    await s.click('How objectives were kept');
    await s.choose('select[aria-label=Time]', '7');
    expect(s.url()).toBe('/reports?report=objectives&days=7');
    expect(s.api.last('report')).toMatchObject({ id: 'objectives', query: { from: now - 7 * day, to: now } });
    expect(s.button('CSV').getAttribute('href')).toBe(`/api/v1/reports/objectives/csv?from=${now - 7 * day}&to=${now}`);
  });

  it('keep the time of a link, and are printed', async () => {
    const s = await open(`/reports?report=growth&from=5&to=9`, { answers: { report } });
    expect(s.api.last('report')).toMatchObject({ id: 'growth', query: { from: '5', to: '9' } });
    const print = vi.fn();
    vi.stubGlobal('print', print);
    await s.click('Print or save as PDF');
    expect(print).toHaveBeenCalledOnce();
  });

  it('say why there is none', async () => {
    const failure = new ApiFailure('INVALID', 'The time of a report begins before it ends.', undefined);
    const s = await open('/reports?report=nothing', { answers: { report: failure } });
    expect(s.api.last('report')?.id).toBe('success');
    expect(s.one('[role=alert]').textContent).toContain('begins before it ends');
  });
});

import { describe, expect, it } from 'vitest';
import { ApiFailure } from '../data/api';
import { day, hour, now, show, words } from '../../test/stage';
import { PointVerdict } from './point-verdict';

const id = (n: number) => `00000000-0000-4000-8000-${String(n).padStart(12, '0')}`;
const scan = (verdict: string, more: object = {}) => ({
  verdict,
  scanned: {
    at: now - hour,
    rulesAt: now - 3 * day,
    items: 4,
    bytes: 10,
    read: 10,
    notLooked: 0,
    suspect: 0,
    infected: verdict === 'infected' ? 1 : 0,
  },
  finds: [],
  lastClean: null,
  ...more,
});
const shown = (answer: unknown) => show(PointVerdict, { pointId: id(1), workload: 3 }, { answers: { pointScan: answer } });

describe('the verdict on a point', () => {
  it('is a quiet sentence where nothing is against it', async () => {
    const s = await shown(scan('clean'));
    expect(words(s.el)).toBe('scanned clean by the rules of Fri 20 Nov 09:00');
    expect(s.all('.f, .w')).toHaveLength(0);
  });

  it('leads to the last clean point where it is infected', async () => {
    const s = await shown(scan('infected', { lastClean: { id: id(2), moment: now - 2 * day, verdict: 'clean' } }));
    expect(s.one('.f').textContent).toContain('1 item infected');
    expect(s.one('a').getAttribute('href')).toBe(`/estate/3?at=${now - 2 * day}`);
    expect(words(s.one('a'))).toBe('last scanned clean: Sat 21 Nov 09:00');
  });

  it('says so where none is known to be better', async () => {
    expect(words((await shown(scan('infected'))).el)).toContain('no other point is known to be better');
  });

  it('says nothing where it can not be told, and follows the point that is chosen', async () => {
    const asked = (call: { id?: unknown }) => (call.id === id(1) ? new ApiFailure('NOT_FOUND', 'not here', undefined) : scan('suspect'));
    const s = await shown(asked);
    expect(words(s.el)).toBe('');
    await s.set('pointId', id(5));
    expect(s.one('.w').textContent).toContain('by the rules of');
  });

  it('is told anew when a scan has ended', async () => {
    let verdict = 'unscanned';
    const s = await shown(() => scan(verdict, verdict === 'unscanned' ? { scanned: null } : {}));
    expect(words(s.el)).toContain('not scanned');
    verdict = 'clean';
    s.live.tell('point');
    await s.settle();
    expect(words(s.el)).toContain('scanned clean');
  });
});

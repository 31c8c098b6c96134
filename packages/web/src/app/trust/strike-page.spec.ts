import { describe, expect, it } from 'vitest';
import { hour, now, open, words } from '../../test/stage';

const id = (n: number) => `00000000-0000-4000-8000-${String(n).padStart(12, '0')}`;
const places = {
  sites: [
    { name: 'Harbour office', workloads: 3, targets: 1 },
    { name: 'Lighthouse station', workloads: 0, targets: 1 },
  ],
  systems: [{ id: 7, name: 'Harbour platform', site: 'Harbour office', workloads: 2, account: true }],
  targets: [
    { id: id(1), name: 'quay-disk', site: 'Harbour office', envelopeAt: null },
    { id: id(2), name: 'vault', site: 'Lighthouse station', envelopeAt: now - 50 * hour },
  ],
};
const row = (n: number, name: string, more: object) => ({
  workload: { id: n, name, kind: 'files' },
  fate: 'comesBack',
  pointsLeft: 3,
  pointsLost: 0,
  moment: now - 9 * hour,
  from: { id: id(2), name: 'vault' },
  byEnvelope: false,
  shutOut: false,
  takesMs: 60_000,
  measured: true,
  backMs: 60_000,
  ...more,
});
const struck = {
  rows: [
    row(1, 'scratch', {
      fate: 'lost',
      pointsLeft: 0,
      pointsLost: 4,
      moment: null,
      from: null,
      takesMs: null,
      backMs: null,
      measured: false,
    }),
    row(2, 'berths-a', { byEnvelope: true }),
    row(3, 'charts-nas', { takesMs: 7_200_000, measured: false, backMs: 7_260_000, shutOut: true }),
  ],
  untouched: 4,
  counts: { lost: 1, comesBack: 2, unprotected: 0, poorer: 0, untouched: 4 },
  backMs: 7_260_000,
  atOnce: 2,
  moversLeft: 1,
  movers: 2,
};
const setting = { answers: { strikePlaces: places, strikeOut: struck } };

describe('strike it out', () => {
  it('says what would be lost and what comes back, in order', async () => {
    const s = await open('/trust/strike?site=Harbour%20office', setting);
    expect(s.text()).toContain('Without Harbour office');
    expect(s.text()).toContain('1 workload gone for good, 2 workloads back within 2 h 1 min.');
    const rows = s.all('tbody tr').map((r) => words(r));
    expect(rows[0]).toMatch(/scratch gone for good 4 points lost, 0 left none –/);
    expect(rows[1]).toContain('with its envelope only');
    expect(rows[1]).toContain('as drilled');
    expect(rows[2]).toContain('by its rate');
    expect(rows[2]).toContain('nobody is let in');
    expect(s.api.last('strikeOut')?.body).toEqual({ sites: ['Harbour office'], systems: [], targets: [], keys: [], accounts: [] });
  });

  it('crosses out more with every line, all of it in the address', async () => {
    const s = await open('/trust/strike', setting);
    expect(s.text()).toContain('Cross something out on the left');
    expect(s.api.last('strikeOut')).toBeUndefined();
    const boxes = () => s.all('input[type=checkbox]');
    await s.click(boxes()[3]!);
    await s.click(boxes()[5]!);
    expect(s.url()).toContain(`target=${id(1)}`);
    expect(s.url()).toContain(`key=${id(1)}`);
    expect(s.api.last('strikeOut')?.body).toMatchObject({ targets: [id(1)], keys: [id(1)] });
    expect(s.text()).toContain('Without quay-disk, the key of quay-disk');
    await s.click('Nothing');
    expect(s.url()).toBe('/trust/strike');
  });

  it.each([
    [
      { counts: { lost: 0, comesBack: 0, unprotected: 0, poorer: 0, untouched: 7 }, rows: [], untouched: 7, backMs: null },
      'Nothing would be lost.',
    ],
    [
      { counts: { lost: 0, comesBack: 2, unprotected: 1, poorer: 0, untouched: 4 }, backMs: null },
      'back nobody knows when, as not all was measured',
    ],
    [
      { counts: { lost: 0, comesBack: 0, unprotected: 1, poorer: 3, untouched: 3 } },
      '1 workload left without a point, 3 workloads with fewer points.',
    ],
    [{ moversLeft: 0 }, 'No mover is left: start one elsewhere first'],
  ])('says it in a sentence, case %#', async (more, text) => {
    const s = await open(`/trust/strike?target=${id(1)}`, { answers: { strikePlaces: places, strikeOut: { ...struck, ...more } } });
    expect(s.text()).toContain(text);
  });

  it('takes what is no number in the address for nothing', async () => {
    const s = await open('/trust/strike?system=7&system=mole&account=-3', setting);
    expect(s.api.last('strikeOut')?.body).toMatchObject({ systems: [7], accounts: [] });
    expect(s.text()).toContain('Without Harbour platform');
  });
});

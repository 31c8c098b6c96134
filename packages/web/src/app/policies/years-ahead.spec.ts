import type { PolicyMeasures } from '@lithodex/contract';
import { describe, expect, it } from 'vitest';
import { policyBody, uuid } from '../../test/samples';
import { day, drawn, now, show, words } from '../../test/stage';
import { simulateAll } from './simulation-job';
import { YearsAhead } from './years-ahead';

const workload = {
  id: 1,
  moments: [{ rule: 1, at: [now - 3 * day, now - 2 * day, now - day] }],
  stored: 1e9,
  newPerDay: 1e7,
  growthPerDay: 0,
  measured: true,
};
const target = (n: number, more: Partial<PolicyMeasures['targets'][number]> = {}) => ({
  targetId: uuid(n),
  name: `disk-${n}`,
  used: 2e9,
  free: 1e9,
  prices: null,
  usedByPolicy: 1e9,
  workloads: [workload],
  ...more,
});
const prices = { currency: 'EUR', perGbMonth: 1, perGbRead: 0, perThousandRequests: 0, leastDays: 0 };
const copies = [{ targetId: uuid(2), rhythm: 'week' as const, keep: { by: 'points' as const, points: 10 }, lockDays: null }];
const outlooks = (more: Parameters<typeof policyBody>[0] = {}) =>
  simulateAll({
    measures: { now, schedules: [], targets: [target(1), target(2, { prices, free: null })] },
    draft: policyBody({ copies, ...more }),
    inForce: policyBody(),
    days: 5 * 365,
  });

describe('the years ahead', () => {
  it('live the rule of each target, beside what is in force where that uses it', () => {
    const [first, second] = outlooks({ keep: { by: 'days', days: 400 } });
    expect([first!.draft.points[1800], first!.inForce!.points[1800]]).toEqual([400, 30]);
    expect([second!.draft.points[1800], second!.inForce]).toEqual([10, null]);
    const byHand = outlooks({ schedule: { every: 'hand' } });
    expect(byHand[0]!.draft.points[1800]).toBe(1);
  });

  it('are drawn as room, points and price, and told in words', async () => {
    drawn.length = 0;
    const s = await show(YearsAhead, { outlooks: outlooks({ keep: { by: 'days', days: 400 } }) });
    expect(words(s.one('p'))).toMatch(
      /^In 5 years it takes 4\.9\d GB on disk-1, 1\.29 GB as it is in force\. Its room ends about Mar 2027\.$/,
    );
    expect(drawn.at(-1)![1].map((t) => t.name)).toEqual(['draft', 'in force']);
    expect(drawn.at(-1)![2].shapes).toHaveLength(1);
    await s.click('Points');
    expect((drawn.at(-1)![1][0] as { text: string[] }).text.at(-1)).toBe('400 points');
    await s.click('disk-2');
    await s.click('Price');
    expect(words(s.one('p'))).toContain('That costs EUR 1.6');
    expect((drawn.at(-1)![1][0] as { text: string[] }).text.at(-1)).toMatch(/^EUR 1\.\d\d a month$/);
  });

  it('say so where nothing is known, and nothing before that is known', async () => {
    const s = await show(YearsAhead, { outlooks: undefined });
    expect(s.text()).toBe('');
    await s.set('outlooks', []);
    expect(s.text()).toContain('Nothing is measured yet');
    const unknown = simulateAll({
      measures: { now, schedules: [], targets: [target(1, { workloads: [{ ...workload, measured: false, newPerDay: 0 }] })] },
      draft: policyBody(),
      inForce: null,
      days: 400,
    });
    await s.set('outlooks', unknown);
    expect(s.text()).toContain('Where nothing was measured, no change is counted.');
  });
});

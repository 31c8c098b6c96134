import { DrillCheck } from '@lithodex/contract';
import { kindNames } from '@lithodex/kinds';
import { describe, expect, it } from 'vitest';
import { checkNames, checksOf, emptyCheck, planWords, roomWords } from './drill-words';

describe('what is looked at in drills', () => {
  it.each(kindNames)('can be chosen for %s, and says where it comes back to', (kind) => {
    const checks = checksOf(kind);
    expect(checks.length).toBeGreaterThan(0);
    expect(checks).toContain('script');
    for (const check of checks) expect(checkNames[check]).not.toBe('');
    expect(roomWords[kind]).toMatch(/^It|^Its/);
  });

  it('is for databases a question, for machines a service or a file, for files what is in them', () => {
    expect(checksOf('database')).toContain('query');
    expect(checksOf('machine')).toEqual(expect.arrayContaining(['service', 'file']));
    expect(checksOf('machine')).not.toContain('count');
    expect(checksOf('files')).toEqual(expect.arrayContaining(['file', 'count']));
    expect(checksOf('application')).toEqual(['script']);
  });

  it('begins with nothing said, which is not kept as it is', () => {
    for (const check of ['file', 'query', 'service', 'script'] as const)
      expect(DrillCheck.safeParse(emptyCheck(check)).success).toBe(false);
    expect(DrillCheck.safeParse(emptyCheck('count')).success).toBe(true);
    expect(DrillCheck.parse({ ...emptyCheck('file'), path: 'a' })).toEqual({ check: 'file', path: 'a', sum: '', holds: '' });
    expect(DrillCheck.safeParse({ ...emptyCheck('file'), path: 'a', sum: 'not a sum' }).success).toBe(false);
    expect(DrillCheck.safeParse({ ...emptyCheck('script'), name: '../run.sh' }).success).toBe(false);
  });

  it('is told in a few words', () => {
    const plan = { checks: [], objective: null, weight: 1 };
    expect(planWords(plan, '')).toBe('what is always looked at');
    expect(planWords({ ...plan, checks: [emptyCheck('count')], objective: 60 }, '1 min')).toBe('one check besides, usable within 1 min');
    expect(planWords({ ...plan, checks: [emptyCheck('count'), emptyCheck('script')], weight: 3 }, '')).toBe('2 checks besides, weight 3');
    expect(planWords({ ...plan, weight: 0 }, '')).toBe('what is always looked at, not on the rota');
  });
});

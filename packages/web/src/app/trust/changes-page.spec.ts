import { describe, expect, it } from 'vitest';
import { day, hour, now, open, words, type Answers } from '../../test/stage';

const id = (n: number) => `00000000-0000-4000-8000-${String(n).padStart(12, '0')}`;
const point = (n: number, more = {}) => ({
  id: id(n),
  moment: now - (14 - n) * day + hour,
  score: 4,
  share: 0.003,
  suspect: false,
  first: false,
  ...more,
});
const changes = {
  from: now - 14 * day,
  to: now,
  pointsToLearn: 14,
  rows: [
    {
      id: 3,
      name: 'charts-nas',
      kind: 'files',
      holdFrom: 60,
      learned: 30,
      reason: '387 files are gone',
      points: [point(1), point(2), point(13, { score: 97, share: 0.98, suspect: true })],
    },
    {
      id: 5,
      name: 'survey-desk',
      kind: 'files',
      holdFrom: 60,
      learned: 9,
      reason: '',
      points: [point(8, { first: true, score: 0 }), point(9, { score: 45 })],
    },
  ],
  others: 34,
};
const held = {
  id: id(13),
  workload: { id: 3, name: 'charts-nas' },
  moment: now - 20 * hour,
  score: 97,
  suspect: true,
  share: 0.98,
  signs: [{ code: 'encrypted', score: 97, reason: '387 files are gone and have a twin that looks random' }],
  said: null,
  damage: {
    files: 395,
    bytes: 5_000_000,
    precise: true,
    firstAt: now - 21 * hour,
    good: { id: id(12), moment: now - 2 * day },
    folders: [
      { folder: '/soundings', inPlace: 0, twin: 371, gone: 0 },
      { folder: '/<b>notices', inPlace: 8, twin: 16, gone: 0 },
    ],
    otherFolders: 2,
    rows: [
      {
        path: '/soundings/a.csv',
        how: 'twin',
        twin: 'a.csv.krx',
        size: 1200,
        since: now - 21 * hour,
        clean: { pointId: id(12), moment: now - 2 * day },
      },
    ],
  },
};
const usual = { ...held, id: id(2), suspect: false, score: 4, signs: [], damage: null };
const stage = (more: Answers = {}, role: 'administrator' | 'operator' = 'administrator', url = '/trust') =>
  open(url, { role, answers: { listChanges: changes, pointChange: held, ...more } });

describe('what changed', () => {
  it('shows a lane for each workload that stands out, and begins with what is held', async () => {
    const s = await stage();
    await s.until(() => {
      expect(s.all('svg path')).toHaveLength(5);
    });
    expect(s.all('.name').map((n) => words(n))).toEqual(['charts-nas held', 'survey-desk learning, 9 of 14 points']);
    expect(words(s.one('lx-trust-head'))).toContain('36 workloads · 1 held');
    expect(words(s.one('.page'))).toContain('34 other workloads stayed in their usual');
    expect(s.all('path.held')).toHaveLength(1);
    await s.until(() => {
      expect(words(s.one('lx-change-side'))).toContain('387 files are gone and have a twin that looks random.');
    });
    expect(s.all('lx-change-side tbody tr').map((r) => words(r))).toEqual(['/soundings 371', '/<b>notices 24']);
    expect(s.one('a.go').getAttribute('href')).toBe(`/recover/sheet?damaged=${id(13)}&from=charts-nas`);
    await s.click('Show them one by one');
    expect(words(s.one('.items'))).toContain('gone, with a random twin: a.csv.krx');
  });

  it('keeps the point and the days in the address', async () => {
    const s = await stage({ pointChange: usual });
    await s.until(() => {
      expect(s.all('svg path').length).toBeGreaterThan(0);
    });
    s.all('svg path')[1]!.dispatchEvent(new KeyboardEvent('keydown', { key: 'Enter', bubbles: true }));
    await s.settle();
    expect(s.url()).toBe(`/trust?point=${id(2)}`);
    await s.until(() => {
      expect(words(s.one('lx-change-side'))).toContain('Nothing about it stands out');
    });
    await s.click('30 days');
    expect(s.url()).toContain('days=30');
    expect(s.api.last('listChanges')?.query).toMatchObject({ days: 30 });
  });

  it('takes what a person says, with a reason', async () => {
    const s = await stage({ sayOfPoint: {} });
    await s.until(() => {
      expect(words(s.one('lx-change-side'))).toContain('charts-nas');
    });
    await s.click('This is usual');
    await s.type('input[name=reason]', 'This was the migration');
    await s.click('It is usual');
    expect(s.api.last('sayOfPoint')).toMatchObject({ id: id(13), body: { as: 'usual', reason: 'This was the migration' } });
    expect(s.all('lx-form-dialog')).toHaveLength(0);
  });

  it('tries another threshold on what was judged before it is set', async () => {
    const s = await stage({ setHoldFrom: {} });
    await s.until(() => {
      expect(words(s.one('lx-change-side'))).toContain('1 point of 3 would have been held');
    });
    const range = s.one<HTMLInputElement>('input[name=hold-from]');
    range.value = '101';
    range.dispatchEvent(new Event('input'));
    await s.settle();
    expect(words(s.one('lx-change-side'))).toContain('no point of 3 would have been held');
    await s.click('Hold from no score from now on');
    expect(s.api.last('setHoldFrom')).toMatchObject({ id: 3, body: { holdFrom: 101 } });
  });

  it('lets an operator look, not decide, and shows no tabs of the audit', async () => {
    const s = await stage({}, 'operator');
    await s.until(() => {
      expect(words(s.one('lx-change-side'))).toContain('charts-nas');
    });
    expect(s.all('lx-change-side button').map((b) => words(b))).toEqual(['Show them one by one']);
    expect(s.all('lx-trust-head nav a').map((a) => words(a))).toEqual([
      'What changed',
      'What was scanned',
      'What is sensitive',
      'Drills',
      'Strike it out',
    ]);
  });

  it('says why it can not be shown, and that nothing stands out', async () => {
    const s = await stage({ listChanges: { ...changes, rows: [] } });
    await s.until(() => {
      expect(words(s.one('.page'))).toContain('Every workload stayed in its usual.');
    });
  });
});

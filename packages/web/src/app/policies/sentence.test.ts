import type { PolicyBody, PolicyRule } from '@lithodex/contract';
import { expect, it } from 'vitest';
import { policyDifferences, ruleSentence } from './sentence';

const body = (change: Partial<PolicyRule>) =>
  ({ kind: 'incremental', schedule: { every: 'day', at: '22:00' }, keep: { by: 'days', days: 14 }, ...change }) as PolicyRule;

it.each<[Partial<PolicyRule>, string]>([
  [{}, 'Every day at 22:00, an incremental, kept for 14 days'],
  [
    { kind: 'full', schedule: { every: 'week', days: [3, 7], at: '03:00' }, keep: { by: 'points', points: 12 } },
    'Every Wednesday and Sunday at 03:00, a full, kept for 12 points',
  ],
  [
    { schedule: { every: 'hours', hours: 6, at: '00:00' }, keep: { by: 'hand' } },
    'Every 6 hours from 00:00, an incremental, kept until a person removes it',
  ],
  [
    { schedule: { every: 'hours', hours: 1, at: '00:30' }, keep: { by: 'days', days: 1 } },
    'Every hour from 00:30, an incremental, kept for 1 day',
  ],
  [
    { keep: { by: 'days', days: 14, longTerm: { weeks: 8, months: 12, years: 7, day: 1 } } },
    'Every day at 22:00, an incremental, kept for 14 days, beyond that 8 weekly, 12 monthly and 7 yearly points',
  ],
  [{ schedule: { every: 'hand' } }, 'By hand, an incremental, kept for 14 days'],
  [
    { schedule: { every: 'month', on: { nth: 5, weekday: 5 }, at: '20:00' } },
    'Every month on the last Friday at 20:00, an incremental, kept for 14 days',
  ],
  [
    { schedule: { every: 'month', on: { day: 31 }, at: '20:00' } },
    'Every month on the last day at 20:00, an incremental, kept for 14 days',
  ],
  [{ schedule: { every: 'minutes', minutes: 15 } }, 'Every 15 minutes, an incremental, kept for 14 days'],
  [
    { schedule: { every: 'continuous', pauseMinutes: 10 } },
    'All the time, 10 minutes after the last run, an incremental, kept for 14 days',
  ],
  [{ schedule: { every: 'after', policyId: 4 } }, 'After Berths, hourly, an incremental, kept for 14 days'],
])('%j reads as a sentence', (change, sentence) => {
  expect(ruleSentence(body(change), new Map([[4, 'Berths, hourly']]))).toBe(sentence);
});

it('says what came and went between two policies, rule by rule', () => {
  const names = { policies: new Map(), workloads: new Map(), targets: new Map([['t', 'quay-disk']]) };
  const first = { ...body({}), no: 1, targetId: 't', copies: [], synthetic: null, lockDays: null, objectiveMinutes: null, parts: [] };
  const shared = {
    name: 'A',
    workloads: [],
    tags: [],
    rule: '',
    except: '',
    zone: 'UTC',
    window: null,
    closed: [],
    include: [],
    exclude: [],
  };
  const rest = {
    retries: { times: 0, pauseMinutes: 30 },
    catchUp: true,
    priority: 'usual',
    objectiveHours: 24,
    changeLimit: 40,
    namesInside: false,
  };
  const scripts = { before: null, after: null, minutes: 15 };
  const of = (rules: PolicyRule[]) => ({ ...shared, ...rest, scripts, rules }) as PolicyBody;
  const full: PolicyRule = { ...first, no: 2, kind: 'full' };
  expect(policyDifferences(of([first]), of([first, full]), names)).toEqual(['further rules: + rule 2']);
  expect(
    policyDifferences(
      of([first, full]),
      of([
        { ...first, keep: { by: 'hand' } },
        { ...full, kind: 'differential' },
      ]),
      names,
    ),
  ).toEqual(['kept: 14 days → until a person removes it', 'rule 2, kind: full → differential']);
});

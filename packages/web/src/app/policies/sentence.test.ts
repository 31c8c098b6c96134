import type { PolicyBody } from '@lithodex/contract';
import { expect, it } from 'vitest';
import { ruleSentence } from './sentence';

const body = (change: Partial<PolicyBody>) =>
  ({ kind: 'incremental', schedule: { every: 'day', at: '22:00' }, keep: { by: 'days', days: 14 }, ...change }) as PolicyBody;

it.each<[Partial<PolicyBody>, string]>([
  [{}, 'Every day at 22:00, an incremental, kept for 14 days'],
  [
    { kind: 'full', schedule: { every: 'week', days: [3, 7], at: '03:00' }, keep: { by: 'points', points: 12 } },
    'Every Wednesday, Sunday at 03:00, a full, kept for 12 points',
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
    { schedule: { every: 'month', on: { nth: 5, weekday: 5 }, at: '20:00' }, window: { from: '20:00', to: '06:00', stop: true } },
    'Every month on the last Friday at 20:00, only from 20:00 to 06:00, an incremental, kept for 14 days',
  ],
  [
    { schedule: { every: 'month', on: { day: 31 }, at: '20:00' } },
    'Every month on the last day at 20:00, an incremental, kept for 14 days',
  ],
  [{ schedule: { every: 'minutes', minutes: 15 } }, 'Every 15 minutes, an incremental, kept for 14 days'],
  [{ schedule: { every: 'after', policyId: 4 } }, 'After Berths, hourly, an incremental, kept for 14 days'],
])('%j reads as a sentence', (change, sentence) => {
  expect(ruleSentence(body(change), new Map([[4, 'Berths, hourly']]))).toBe(sentence);
});

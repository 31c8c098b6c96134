import type { Sensitive } from '@lithodex/contract';
import { describe, expect, it } from 'vitest';
import { day, now } from '../../test/stage';
import { sensitiveChart } from './sensitive-chart';

const names = ['card', 'account', 'password', 'token', 'privateKey', 'diagnosis', 'mailAddress'];
const days = Array.from({ length: 14 }, (_, i) => now - (13 - i) * day);
const told = (more: Partial<Sensitive> = {}): Sensitive => ({
  patterns: names.map((id) => ({ id, name: `${id}s`, book: 'A book', source: 'a standard' })),
  days,
  lines: names.map((pattern, n) => ({ pattern, findings: days.map((_, d) => (n + 1) * 10 + d) })),
  rows: [],
  jump: null,
  on: true,
  looked: 1,
  lookedAt: now,
  ...more,
});

describe('the chart of sensitive data', () => {
  it('lays the patterns with most of it one above the other', () => {
    const { traces, words, layout } = sensitiveChart(told(), 'UTC');
    expect(traces.map((t) => t.name)).toEqual(['mailAddresss', 'diagnosiss', 'privateKeys', 'tokens', 'passwords', 'accounts']);
    expect(traces.every((t) => 'stackgroup' in t && t.stackgroup === 'all')).toBe(true);
    expect(words).toBe('348 findings in the newest points, 270 findings at the beginning');
    expect(layout.shapes).toBeUndefined();
  });

  it('names a jump where it is, written towards the middle', () => {
    const jump = { at: days[11]!, added: 2537, workload: { id: 3, name: 'survey-desk' }, pattern: 'card', why: 'newData' } as const;
    const late = sensitiveChart(told({ jump }), 'UTC').layout.annotations![0]!;
    expect(late.text).toMatch(/^Sat 21 Nov 09:00: \+2.537 in survey-desk$/);
    expect(late.xanchor).toBe('right');
    expect(sensitiveChart(told({ jump: { ...jump, at: days[2]! } }), 'UTC').layout.annotations![0]!.xanchor).toBe('left');
  });

  it('has a scale where there is hardly anything', () => {
    const { layout } = sensitiveChart(told({ lines: [{ pattern: 'card', findings: days.map(() => 0) }] }), 'UTC');
    expect(layout.yaxis!.tickvals!.length).toBeGreaterThan(0);
  });
});

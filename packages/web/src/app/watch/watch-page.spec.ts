import { describe, expect, it } from 'vitest';
import { nightTask, watch } from '../../test/samples';
import { day, hour, now, open, words } from '../../test/stage';
import { ApiFailure } from '../data/api';

const matter = (id: string, level: 'fault' | 'warning' | 'absent', title: string) => ({
  id,
  level,
  title,
  text: 'What it means.',
  since: now - 5 * hour,
  action: { label: 'See the run', link: '/runs/5', query: {} },
  second: id === 'a' ? { label: 'All of them', link: '/runs', query: { states: 'failed' } } : null,
});

describe('the morning', () => {
  it('says in one sentence how the night went', async () => {
    const parts = [
      { tone: 'fault' as const, text: '2 failed' },
      { tone: 'warning' as const, text: '1 ended with parts missing' },
      { tone: 'plain' as const, text: '3 were not due' },
    ];
    const s = await open('/watch', { answers: { watch: watch({ lead: { protected: 9, all: 12, parts } }) } });
    const lead = s.one('.lead');
    expect(words(lead)).toBe('Last night 9 of 12 workloads were protected. 2 failed , 1 ended with parts missing and 3 were not due .');
    expect([...lead.querySelectorAll('b')].map((b) => b.className)).toEqual(['', 'f', 'w', '']);
  });

  it.each([
    [{ protected: 1, all: 1, parts: [] }, 'Last night 1 of 1 workload was protected. Nothing needs you.'],
    [{ protected: 0, all: 0, parts: [] }, 'Nothing was due last night.'],
  ])('says it for %j', async (lead, sentence) => {
    const s = await open('/watch', { answers: { watch: watch({ lead }) } });
    expect(words(s.one('.lead'))).toBe(sentence);
  });

  it('shows facts only where there are any', async () => {
    const facts = {
      newestBytes: 4e11,
      storedBytes: 2e11,
      oldestNewest: { moment: now - 2 * day, workload: 'tide-gauge', objectiveHours: 24, late: true },
      nightMs: 3 * hour,
      usualNightMs: 2 * hour,
      reduction: 11.2,
      lastRestore: { runId: 4, at: now - day, state: 'done' as const },
    };
    const s = await open('/watch', { answers: { watch: watch({ facts }) } });
    const text = words(s.one('.facts'));
    expect(text).toContain('Oldest newest point 2 days ago tide-gauge, objective 24 h');
    expect(text).toContain('Night, first to last 3 h usually 2 h');
    expect(text).toContain('all points 11 × larger');
    s.api.answers.watch = watch();
    s.live.tell('run');
    await s.settle();
    expect(words(s.one('.facts'))).toBe('Newest points hold 400 GB Targets store 200 GB');
  });

  it('lists what needs a person with the way to it, and what is coming', async () => {
    const matters = [matter('a', 'fault', '2 runs failed: the target is full'), matter('b', 'absent', '1 server unprotected')];
    const coming = [{ at: now + 9 * day, text: 'quay-disk will be full' }];
    const s = await open('/watch', { answers: { watch: watch({ matters, coming }) } });
    expect(s.all('.matter').map((m) => m.querySelector('b')?.textContent)).toEqual(matters.map((m) => m.title));
    expect(s.one('.need header').textContent).toContain('2 matters');
    expect(s.button('See the run').classList.contains('go')).toBe(true);
    expect(s.button('All of them').getAttribute('href')).toBe('/runs?states=failed');
    expect(words(s.one('.ahead'))).toBe('Coming, if nothing changes Wed 2 Dec quay-disk will be full');
  });

  it('shows one night, three or a week, as the address says', async () => {
    const s = await open('/watch?nights=7', { answers: { watch: watch() } });
    expect(s.api.last('watch')?.query).toEqual({ nights: 7 });
    await s.click('three');
    expect(s.url()).toBe('/watch?nights=3');
    await s.go('/watch?nights=500');
    expect(s.api.last('watch')?.query).toEqual({ nights: 1 });
  });

  it('keeps the morning when the server goes away for a moment, and says so when it never came', async () => {
    const s = await open('/watch', { answers: { watch: new ApiFailure('UNREACHABLE', 'The server does not answer.', undefined) } });
    expect(s.one('[role=alert]').textContent).toContain('does not answer');
    s.api.answers.watch = watch();
    s.live.tell('estate');
    await s.settle();
    expect(s.all('[role=alert]')).toEqual([]);
    expect(s.text()).toContain('Nothing needs a person.');
  });
});

describe('the night, drawn', () => {
  it('gives a row to what deviates: its shape, its words, the end of its line', async () => {
    const deviants = [
      nightTask(1),
      nightTask(2, { state: 'stopped', remark: 'the window ended', attempts: 3 }),
      nightTask(3, { state: 'remarks', startedAt: now - hour, endedAt: null, remark: '4 files changed while read' }),
    ];
    const s = await open('/watch', { answers: { watch: watch({ deviants }) } });
    const rows = s.all('lx-night-chart a');
    expect(rows.map((r) => r.getAttribute('href'))).toEqual(['/runs/1', '/runs/2', '/runs/3']);
    expect(rows.map((r) => r.querySelector('path')?.getAttribute('stroke'))).toEqual(['var(--fail)', 'var(--warn)', 'var(--warn)']);
    expect(rows[1]?.textContent).toContain('the window ended, tried 3 times');
    expect(rows[2]?.lastElementChild?.getAttribute('text-anchor')).toBe('end');
    const bar = rows[0]!.querySelector('rect')!;
    const width = Number(bar.getAttribute('width'));
    expect(width).toBeCloseTo((800 - 176 - 2) / 12, 5);
  });

  it('gathers what went well into one ribbon for each group, beside the usual night', async () => {
    const s = await open('/watch', { answers: { watch: watch() } });
    const paths = s.all('lx-night-chart path').map((p) => p.getAttribute('d') ?? '');
    expect(paths).toHaveLength(2);
    expect(paths.join('')).not.toContain('NaN');
    expect(s.one('lx-night-chart').textContent).toContain('9 done without a remark');
  });
});

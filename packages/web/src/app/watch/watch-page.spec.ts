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
  fresh: id === 'a',
  owner: null,
  note: null,
  putOff: null,
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
    expect(s.all('lx-matter-card').map((m) => m.querySelector('b')?.textContent)).toEqual(matters.map((m) => m.title));
    expect(s.one('.need header').textContent).toContain('2 matters, 1 new since you last looked');
    expect(s.button('See the run').classList.contains('go')).toBe(true);
    expect(s.button('All of them').getAttribute('href')).toBe('/runs?states=failed');
    expect(words(s.one('.ahead'))).toBe('Coming, if nothing changes Wed 2 Dec quay-disk will be full');
  });

  it('shows one night, three or a week, as the address says', async () => {
    const s = await open('/watch?nights=7', { answers: { watch: watch() } });
    expect(s.api.last('watch')?.query).toEqual({ nights: 7, by: 'policy' });
    await s.click('three');
    expect(s.url()).toBe('/watch?nights=3');
    expect(words(s.one('.lead'))).toMatch(/^In the last three nights /);
    await s.go('/watch?nights=500');
    expect(s.api.last('watch')?.query).toEqual({ nights: 1, by: 'policy' });
  });

  it('groups the night as the address says', async () => {
    const s = await open('/watch', { answers: { watch: watch() } });
    await s.click('source');
    expect(s.url()).toBe('/watch?by=source');
    expect(s.api.last('watch')?.query).toEqual({ nights: 1, by: 'source' });
  });

  const people = [
    { id: 1, name: 'Eva Vind' },
    { id: 2, name: 'Odd Brink' },
  ];

  it('lets matters be taken on, given away, noted and put off', async () => {
    const s = await open('/watch', {
      answers: { watch: watch({ matters: [matter('a', 'fault', 'It failed')], people }), changeMatter: {} },
    });
    const more = async (words: string) => {
      if (!document.querySelector('.menu.show')) await s.click('More');
      const item = [...document.querySelectorAll<HTMLElement>('.menu.show [ngbdropdownitem]')].find((b) => b.textContent.includes(words));
      await s.click(item!);
    };
    await more('I take it on');
    expect(s.api.last('changeMatter')).toMatchObject({ id: 'a', body: { owner: 1 } });
    await more('Give it to Odd Brink');
    expect(s.api.last('changeMatter')?.body).toEqual({ owner: 2 });
    await more('Put it off for 3 days');
    expect(Math.abs((s.api.last('changeMatter')!.body as { putOff: number }).putOff - now - 3 * day)).toBeLessThan(10_000);
    await more('Note something');
    s.one<HTMLInputElement>('.noting input').value = 'The cable is ordered';
    await s.click('Keep the note');
    expect(s.api.last('changeMatter')?.body).toEqual({ note: 'The cable is ordered' });
    expect(s.all('.noting')).toEqual([]);
  });

  it('tells who has a matter and what is noted, keeps what is put off apart, and a refusal with its matter', async () => {
    const had = {
      ...matter('a', 'fault', 'It failed'),
      owner: people[1]!,
      note: { text: '<b>cable</b>', by: 'Odd Brink', at: now - hour },
    };
    const off = { ...matter('b', 'warning', 'It is late'), putOff: now + day };
    const refused = new ApiFailure('NOT_FOUND', 'This matter is settled.', undefined);
    const s = await open('/watch', { answers: { watch: watch({ matters: [had], putOff: [off], people }), changeMatter: refused } });
    expect(words(s.one('lx-matter-card'))).toContain('Odd Brink has it. “<b>cable</b>” Odd Brink, 1 h ago');
    expect(s.all('lx-matter-card')).toHaveLength(1);
    await s.click('▸ 1 put off');
    expect(words(s.all('lx-matter-card')[1]!)).toContain('Put off until Tue 24 Nov 09:00');
    await s.click(s.all('lx-matter-card .dropdown-toggle')[1]!);
    await s.click(
      [...document.querySelectorAll<HTMLElement>('.menu.show [ngbdropdownitem]')].find((b) => b.textContent.includes('Take it up'))!,
    );
    expect(s.api.last('changeMatter')).toMatchObject({ id: 'b', body: { putOff: null } });
    expect(words(s.all('lx-matter-card')[1]!)).toContain('This matter is settled.');
  });

  it('offers nothing to an auditor, who sees the same', async () => {
    const s = await open('/watch', {
      answers: { watch: watch({ matters: [matter('a', 'fault', 'It failed')], people }) },
      role: 'auditor',
    });
    expect(s.all('lx-matter-card .dropdown-toggle')).toEqual([]);
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

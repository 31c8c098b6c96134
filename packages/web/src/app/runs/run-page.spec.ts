import { describe, expect, it } from 'vitest';
import { runDetail, task, uuid } from '../../test/samples';
import { drawn, hour, minute, now, open, page, words, type Answers, type Setting } from '../../test/stage';
import { ApiFailure } from '../data/api';

const line = (seq: number, more: object = {}) => ({
  seq,
  at: now - hour,
  taskId: uuid(1),
  workload: 'quay-1',
  level: 'note',
  code: 'X',
  path: '',
  message: `line ${seq}`,
  ...more,
});
const log = page([line(1), line(2, { level: 'warning', path: 'a<script>.txt', message: 'changed while it was read' })]);
const cause = { code: 'TARGET_FULL', message: 'The target is full.', remedy: 'Make room or choose another.' };
const progress = {
  phase: 'reading',
  items: 50,
  bytes: 6e9,
  read: 1e9,
  fresh: 5e8,
  stored: 1e8,
  expectedItems: 100,
  expectedBytes: 8e9,
  rate: 2e8,
  leftMs: 10_000,
};

describe('a run', () => {
  const stage = (detail: unknown, answers: Answers = {}, more: Setting = {}, url = '/runs/7') =>
    open(url, { answers: { getRun: detail, runLog: log, ...answers }, ...more });

  it('puts what needs a person first, with cause and remedy', async () => {
    const s = await stage(
      runDetail(7, [task(1), task(2, { state: 'failed', cause, attempt: 3 }), task(3, { state: 'held' })], { state: 'failed' }),
    );
    expect(s.all('.task b:first-of-type').map((b) => b.textContent)).toEqual(expect.arrayContaining(['quay-1', 'quay-2', 'quay-3']));
    const tasks = s.all('.task').map((t) => words(t));
    expect(tasks[0]).toContain('quay-2 failed');
    expect(tasks[0]).toContain('The target is full. Make room or choose another.');
    expect(tasks[0]).toContain('attempt 3');
    expect(tasks[1]).toContain('The point changed far more than usual.');
    expect(tasks[2]).toContain('quay-1 done');
  });

  it('shows how far it is, and can be stopped while it goes on', async () => {
    const going = runDetail(7, [task(1, { state: 'running', endedAt: null, progress })], { state: 'running', endedAt: null, progress });
    const s = await stage(going, { stopRun: new ApiFailure('RUN_ENDED', 'The run has ended by itself.', undefined) });
    expect(s.one('[role=progressbar]').getAttribute('aria-valuenow')).toBe('75');
    expect(s.one('.facts').textContent).toContain('Running for');
    await s.click('Stop');
    expect(s.api.last('stopRun')?.id).toBe(7);
    expect(s.one('[role=alert]').textContent).toContain('has ended by itself');
    s.api.answers.getRun = runDetail(7, [task(1)]);
    s.live.tell('run', { runId: 8 });
    await s.settle();
    expect(s.one('.facts').textContent).toContain('Running for');
    s.live.tell('run', { runId: 7 });
    await s.settle();
    expect(s.one('.facts').textContent).toContain('Took');
    expect(s.all('button').some((b) => b.textContent.trim() === 'Stop')).toBe(false);
  });

  it('runs again only what did not end well', async () => {
    const s = await stage(runDetail(7, [task(1), task(2, { state: 'stopped' })], { state: 'stopped' }), { retryRun: { runId: 8 } });
    await s.click('Retry what failed');
    expect(s.url()).toBe('/runs/8');
    s.api.answers.getRun = runDetail(7, [task(1)]);
    await s.go('/runs/7');
    expect(s.all('button').some((b) => b.textContent.includes('Retry'))).toBe(false);
  });

  it('says where the time went and sets earlier runs beside it', async () => {
    const phases = [
      { name: 'reading', ms: 3000 },
      { name: 'writing', ms: 1000 },
    ];
    const earlier = [
      { id: 6, startedAt: now - 35 * hour, ms: 8 * minute, bytes: 8e9, read: 3e8, stored: 1e8, state: 'done' as const },
      { id: 5, startedAt: now - 59 * hour, ms: minute, bytes: 8e9, read: 3e8, stored: 1e8, state: 'failed' as const },
    ];
    const s = await stage(runDetail(7, [task(1, { phases })], { earlier }));
    expect(words(s.one('.task'))).toContain('reading 75 % · writing 25 %');
    expect(s.all('.e .b i').map((i) => i.style.width)).toEqual(['50%', '100%', '12.5%']);
    expect(s.all('.e').at(-1)?.textContent).toContain('failed');
    expect(s.one('.facts').textContent).toContain('4.0 × smaller than read');
  });

  it('searches and narrows the log in the address, shows it escaped, and loads more of it', async () => {
    const s = await stage(runDetail(7, [task(1), task(2)]), { runLog: { ...log, next: '2', total: 3 } });
    await s.until(() => {
      expect(s.all('.l')).toHaveLength(2);
    });
    expect(s.all('.l')[1]?.textContent).toContain('a<script>.txt');
    expect(s.el.querySelector('script')).toBeNull();
    await s.choose('[aria-label=Level]', 'warning');
    await s.type('[data-filter]', 'read');
    await s.click('its log');
    expect(s.url()).toBe(`/runs/7?level=warning&q=read&task=${uuid(1)}`);
    await s.until(() => {
      expect(s.api.last('runLog')?.query).toMatchObject({ level: 'warning', q: 'read', task: uuid(1) });
    });
    await s.click('Show more');
    expect(s.api.last('runLog')?.query).toMatchObject({ cursor: '2', level: 'warning' });
    expect(s.all('.l')).toHaveLength(4);
  });

  it('hands over a prepared download, and only to those who restore', async () => {
    const detail = runDetail(7, [], {
      kind: 'download',
      downloadReady: true,
      by: 'Ilse Holm',
      reason: 'asked for',
      rules: 'as a tar archive',
    });
    const s = await stage(detail);
    expect(s.button('Fetch the download').getAttribute('href')).toBe('/api/v1/restores/7/download');
    expect(s.text()).toContain('as a tar archive ; why: asked for');
  });

  it('leads to the run that has to make its point first', async () => {
    const after = { id: 6, name: 'berths-a, before it is replaced', state: 'running' as const };
    const s = await open('/runs/7', {
      answers: { getRun: runDetail(7, [task(1, { state: 'waiting' })], { state: 'waiting', kind: 'restore', after }) },
    });
    await s.until(() => {
      expect(s.text()).toContain('It waits for the point that is taken first: berths-a, before it is replaced');
    });
    await s.click('berths-a, before it is replaced');
    expect(s.url()).toBe('/runs/6');
  });

  it('gives an auditor no levers', async () => {
    const s = await stage(
      runDetail(7, [task(1, { state: 'failed' })], { state: 'failed', kind: 'download', downloadReady: true }),
      {},
      { role: 'auditor' },
    );
    expect(s.all('.row-line .act')).toEqual([]);
  });

  it('says so when there is no such run', async () => {
    const s = await stage(new ApiFailure('NOT_FOUND', 'There is no such run.', undefined));
    expect(s.one('[role=alert]').textContent).toBe('There is no such run.');
  });

  it('shows how fast it went, over time, where one asks', async () => {
    const rates = { from: now - 60_000, slotMs: 30_000, read: [1e6, 2e6], written: [5e5, 0] };
    const s = await stage(runDetail(7, [task(1)]), { runRates: rates });
    expect(s.api.of('runRates')).toEqual([]);
    drawn.length = 0;
    await s.click('▸ How fast, over time');
    await s.until(() => {
      expect(drawn).toHaveLength(1);
    });
    expect(drawn[0]![1].map((t) => [t.name, (t as { text: string[] }).text[0]])).toEqual([
      ['read', 'read 1.00 MB/s'],
      ['written', 'written 500 kB/s'],
    ]);
    s.api.answers.runRates = { ...rates, read: [0, 0], written: [0, 0] };
    await s.click('▾ How fast, over time');
    await s.click('▸ How fast, over time');
    expect(s.text()).toContain('Nothing was moved.');
  });

  it('leads back from a restore that replaced something, over the sheet', async () => {
    const after = { id: 6, name: 'quay-1, before it is replaced', state: 'done' as const };
    const item = { pointId: uuid(4), path: 'plans/a.txt', workload: 'quay-1', moment: now - hour, kind: 'file', size: 10 };
    const s = await open('/runs/7', {
      answers: {
        getRun: runDetail(7, [task(1)], { state: 'done', kind: 'restore', after }),
        undo: { moment: now - hour, rows: [item] },
      },
    });
    await s.click('Undo this restore');
    expect(s.url()).toBe('/recover/sheet?exists=replace');
    await s.until(() => {
      expect(s.api.last('planRestore')).toMatchObject({ body: { rule: 'replace', picks: [{ pointId: uuid(4), path: 'plans/a.txt' }] } });
    });
  });
});

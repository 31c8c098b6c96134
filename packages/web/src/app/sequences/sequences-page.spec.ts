import { describe, expect, it } from 'vitest';
import type { SequencePart, SequenceRow, SequenceRun, StepWent } from '@lithodex/contract';
import { hour, now, open, words } from '../../test/stage';

const minute = 60_000;
const part = (id: number, name: string, takesMs: number | null, more: Partial<SequencePart> = {}): SequencePart => ({
  restore: { by: 'workload', id },
  name,
  kinds: ['files'],
  place: 'where it was',
  takesMs,
  tried: now - hour,
  cannot: '',
  ...more,
});
const parts = [
  part(1, 'berths-a', 2 * minute),
  part(2, 'berth-portal', 3 * minute),
  part(3, 'pilot-desk', null, { tried: null, cannot: 'Its platform is not connected: there is no place to start it.' }),
];
const step = (id: number, after: number[] = [], wait = 0) => ({ restore: { by: 'workload' as const, id }, after, wait });
const went = (name: string, id: number, state: StepWent['state'], more: Partial<StepWent> = {}): StepWent => ({
  ...step(id),
  name,
  state,
  runId: null,
  beganAt: null,
  endedAt: null,
  says: '',
  ...more,
});
const run: SequenceRun = {
  id: 9,
  sequence: { id: 4, name: 'Harbour first' },
  trial: false,
  by: 'eva.vind',
  reason: 'the server room is under water',
  state: 'failed',
  at: now - hour,
  endedAt: now - hour + 5 * minute,
  tookMs: null,
  objectiveMs: 10 * minute,
  steps: [
    went('berths-a', 1, 'failed', { runId: 70, beganAt: now - hour, endedAt: now - hour + minute, says: 'The mover has no room.' }),
    went('berth-portal', 2, 'blocked', { after: [0], wait: 5, says: 'It waits for berths-a, which did not come back.' }),
  ],
  nextAt: null,
};
const row: SequenceRow = {
  id: 4,
  body: { name: 'Harbour first', objective: 4, steps: [step(1), step(2, [0])] },
  person: 'eva.vind',
  changedAt: now - hour,
  lastTrial: { ...run, id: 8, trial: true, state: 'done', tookMs: 6 * minute, objectiveMs: 4 * minute, steps: [] },
  lastReal: null,
};
const listSequences = { rows: [row], parts };

describe('sequences', () => {
  it('are listed with how long they would take and how they went', async () => {
    const s = await open('/recover/sequences', { answers: { listSequences } });
    expect(words(s.one('tbody tr'))).toMatch(/Harbour first berths-a, berth-portal about 5 min of 4 min .* 6 min never/);
    expect(s.text()).toContain('back at 2 min');
    expect(s.text()).toContain('back at 5 min');
    expect(s.one('a[href="/recover/sequences/went/8"]')).toBeTruthy();
  });

  it('are tried from there', async () => {
    const s = await open('/recover/sequences', {
      answers: { listSequences, trySequence: { id: 12 }, getSequenceRun: { ...run, id: 12 } },
    });
    await s.click(s.button('Try it by drills'));
    await s.until(() => expect(s.api.of('trySequence')).toHaveLength(1));
    await s.until(() => expect(s.url()).toBe('/recover/sequences/went/12'));
  });

  it('say what each step would do before they are started, and want a reason', async () => {
    const s = await open('/recover/sequences', {
      answers: {
        listSequences,
        lookAtSequence: {
          steps: [
            { name: 'berths-a', moments: [now - hour], place: '/srv/berths', says: [{ level: 'look', text: '12 files are newer.' }] },
            { name: 'berth-portal', moments: [], place: '', says: [{ level: 'stop', text: 'There is no good point of berth-portal.' }] },
          ],
        },
        startSequence: { id: 13 },
        getSequenceRun: { ...run, id: 13 },
      },
    });
    await s.click(s.button('Start it as it is …'));
    await s.until(() => expect(s.text()).toContain('12 files are newer.'));
    expect(s.text()).toContain('1 step would fail as things are.');
    expect(s.button('Start 2 restores').disabled).toBe(true);
    await s.type('[aria-label="Why"]', 'the quay burns');
    await s.click(s.button('Start 2 restores'));
    await s.until(() => expect(s.api.of('startSequence')).toHaveLength(1));
    expect(s.api.of('startSequence')[0]!).toMatchObject({ id: 4, body: { reason: 'the quay burns' } });
  });
});

describe('how a sequence went', () => {
  it('is told step by step, with what can be done where one failed', async () => {
    const s = await open('/recover/sequences/went/9', { answers: { getSequenceRun: run, moveSequenceRun: {} } });
    expect(s.text()).toContain('started as it is by eva.vind');
    expect(s.text()).toContain('0 of 2 back: not all of it came back');
    expect(words(s.all('tbody tr')[1]!)).toMatch(/berth-portal after 1, then 5 min .*did not begin It waits for berths-a/);
    await s.click(s.one('[aria-label="Go on without berths-a"]'));
    await s.until(() => expect(s.api.of('moveSequenceRun')).toHaveLength(1));
    expect(s.api.of('moveSequenceRun')[0]!).toMatchObject({ id: 9, body: { step: 0, how: 'without' } });
  });
});

describe('a sequence that is put together', () => {
  it('shows what it comes to while one writes, and is kept', async () => {
    const s = await open('/recover/sequences/new', { answers: { listSequences, addSequence: { id: 5 } } });
    expect(s.button('Keep this sequence').disabled).toBe(true);
    await s.type('[aria-label="Name"]', 'Portal and all');
    await s.fill('what comes back next', 'berths-a');
    await s.fill('what comes back next', 'berth-portal');
    expect(s.text()).toContain('All of it is back after about 5 min');
    await s.click(s.one('[aria-label="Step 2 waits for step 1"]'));
    await s.until(() => expect(s.text()).toContain('All of it is back after about 3 min'));
    await s.click(s.one('[aria-label="Step 2 waits for step 1"]'));
    await s.fill('what comes back next', 'pilot-desk');
    expect(s.text()).toContain('Nobody knows how long pilot-desk takes');
    expect(s.text()).toContain("pilot-desk can't be tried");
    await s.click(s.one('[aria-label="Take out step 3"]'));
    await s.click(s.button('Keep this sequence'));
    await s.until(() => expect(s.api.of('addSequence')).toHaveLength(1));
    expect(s.api.of('addSequence')[0]!.body).toEqual({ name: 'Portal and all', objective: null, steps: [step(1), step(2, [0])] });
  });
});

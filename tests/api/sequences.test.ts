import fs from 'node:fs';
import type { BodyInput, SequenceRun, StepState } from '@lithodex/contract';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { Harness, type Client } from '../support/harness';
import { describeTree } from '../support/nasty-tree';

const minuteMs = 60_000;
const names = ['berths', 'portal', 'boards', 'never'] as const;
type Name = (typeof names)[number];
let h: Harness;
let admin: Client;
let targetId: string;
const ids = new Map<string, number>();
const clock = { ahead: 0 };

const folderOf = (name: string) => `${h.folder}/${name}`;
const step = (name: Name, after: number[] = [], wait = 0): BodyInput<'addSequence'>['steps'][number] => ({
  restore: { by: 'workload', id: ids.get(name)! },
  after,
  wait,
});
const add = async (name: string, steps: BodyInput<'addSequence'>['steps'], objective: number | null = null) =>
  (await admin.call('addSequence', { body: { name, steps, objective } })).id;
/** The folder itself was there all the time. */
const treeOf = (name: string) => describeTree(folderOf(name)).replace(/^\|d\|.*$/m, '');
const runOf = (id: number) => admin.call('getSequenceRun', { id });
const statesOf = ({ steps }: SequenceRun): StepState[] => steps.map((s) => s.state);
/** Goes on, round by round, until it is so. */
const until = async (id: number, is: (run: SequenceRun) => boolean): Promise<SequenceRun> =>
  vi.waitFor(
    async () => {
      await h.tick();
      const run = await runOf(id);
      expect(is(run), JSON.stringify(run)).toBe(true);
      return run;
    },
    { timeout: 90_000, interval: 100 },
  );
const ended = (id: number) => until(id, (run) => run.state !== 'running');
const restoresOf = async () => (await admin.call('listRuns', { query: { kinds: 'restore' } })).rows.length;

beforeAll(async () => {
  h = await Harness.start({ schedulerMs: 0, leaseMs: 3000, clock: { now: () => Date.now() + clock.ahead } });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  for (const name of names) {
    fs.mkdirSync(folderOf(name));
    for (let i = 0; i < 40; i++) fs.writeFileSync(`${folderOf(name)}/${name}-${i}.txt`, `${name} ${i}\n`.repeat(2000));
    await admin.call('addSource', { body: { name, folder: folderOf(name) } });
  }
  for (const { id, name } of (await admin.call('estate', { query: {} })).workloads) ids.set(name, id);
  for (const name of names.slice(0, 3)) {
    const { runId } = await admin.call('protectOnce', { id: ids.get(name)!, body: { targetId } });
    expect((await admin.ended(runId)).state).toBe('done');
  }
}, 60_000);
afterAll(() => h.stop());

describe('a sequence', () => {
  it('is put together by administrators, of what is there, with steps that wait for steps before them', async () => {
    const body = { name: 'Harbour', steps: [step('berths'), step('portal', [0])], objective: null };
    for (const role of ['operator', 'auditor', 'clerk'] as const)
      await expect((await h.as(role)).call('addSequence', { body })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    await expect(admin.call('addSequence', { body: { ...body, steps: [step('berths', [0])] } })).rejects.toMatchObject({ code: 'INVALID' });
    await expect(admin.call('addSequence', { body: { ...body, steps: [step('berths'), step('portal', [2])] } })).rejects.toMatchObject({
      code: 'INVALID',
    });
    const gone = { restore: { by: 'standing' as const, id: 77 }, after: [], wait: 0 };
    await expect(admin.call('addSequence', { body: { ...body, steps: [gone] } })).rejects.toMatchObject({ code: 'INVALID' });
    const { id } = await admin.call('addSequence', { body });
    await expect(admin.call('addSequence', { body })).rejects.toMatchObject({ code: 'NAME_TAKEN' });
    await admin.call('changeSequence', { id, body: { ...body, objective: 30 } });
    const { rows, parts } = await (await h.as('auditor')).call('listSequences');
    expect(rows).toMatchObject([{ id, body: { name: 'Harbour', objective: 30 }, lastTrial: null, lastReal: null }]);
    expect(parts.map((p) => p.name)).toEqual(['berths', 'boards', 'portal']);
    await admin.call('removeSequence', { id });
    expect((await admin.call('listSequences')).rows).toEqual([]);
    await expect(admin.call('trySequence', { id })).rejects.toMatchObject({ code: 'NOT_FOUND' });
  });
});

describe('the trial of a sequence', () => {
  it('drills one after the other, each once what it waits for is back and its wait is over', async () => {
    const sequence = await add('In order', [step('berths'), step('portal', [0]), step('boards', [0, 1], 5)], 30);
    const { id } = await (await h.as('operator')).call('trySequence', { id: sequence });
    await expect(admin.call('trySequence', { id: sequence })).rejects.toMatchObject({ code: 'NOT_NOW' });
    expect(statesOf(await runOf(id))).toEqual(['running', 'waiting', 'waiting']);
    const waiting = await until(id, (run) => run.steps[1]!.state === 'back');
    expect(waiting).toMatchObject({ state: 'running', nextAt: waiting.steps[1]!.endedAt! + 5 * minuteMs });
    await h.tick();
    expect(statesOf(await runOf(id))).toEqual(['back', 'back', 'waiting']);
    clock.ahead += 5 * minuteMs;
    const run = await ended(id);
    expect(run).toMatchObject({ state: 'done', trial: true, by: 'operator', tookMs: expect.any(Number) });
    const [first, second, third] = run.steps;
    expect(second!.beganAt).toBeGreaterThanOrEqual(first!.endedAt!);
    expect(third!.beganAt).toBeGreaterThanOrEqual(second!.endedAt! + 5 * minuteMs);
    for (const { runId } of run.steps) {
      const { rows } = await admin.call('listDrilled', { query: { run: runId! } });
      expect(rows).toMatchObject([{ passed: true }]);
    }
    const { rows, parts } = await admin.call('listSequences');
    expect(rows.find((r) => r.id === sequence)!.lastTrial).toMatchObject({ id, state: 'done' });
    expect(parts.every((p) => p.takesMs !== null && p.tried !== null)).toBe(true);
  });

  it('fails where it takes longer than was said', async () => {
    const sequence = await add('Too slow', [step('berths'), step('portal', [0], 3)], 2);
    const { id } = await admin.call('trySequence', { id: sequence });
    await until(id, (run) => run.steps[0]!.state === 'back');
    clock.ahead += 3 * minuteMs;
    const run = await ended(id);
    expect(run).toMatchObject({ state: 'failed', objectiveMs: 2 * minuteMs });
    expect(statesOf(run)).toEqual(['back', 'back']);
    expect(run.tookMs).toBeGreaterThan(3 * minuteMs);
  });

  it('fails with the cause where something that others need does not come back, and does not begin those', async () => {
    const check = { check: 'file' as const, path: 'tariffs.csv', sum: '', holds: '' };
    await admin.call('changeDrillPlan', { id: ids.get('berths')!, body: { checks: [check], objective: null, weight: 1 } });
    const sequence = await add('Needs berths', [step('berths'), step('portal', [0]), step('boards'), step('boards', [1])]);
    const { id } = await admin.call('trySequence', { id: sequence });
    const run = await ended(id);
    expect(run).toMatchObject({ state: 'failed', tookMs: null });
    expect(statesOf(run)).toEqual(['failed', 'blocked', 'back', 'blocked']);
    expect(run.steps[0]!.says).toContain('tariffs.csv');
    expect(run.steps[1]).toMatchObject({ runId: null, says: 'It waits for berths, which did not come back.' });
    expect(run.steps[3]!.says).toBe('It waits for portal, which did not come back.');
    await expect(admin.call('moveSequenceRun', { id, body: { step: 0, how: 'without' } })).rejects.toMatchObject({ code: 'NOT_NOW' });
    const matters = (await admin.call('watch', { query: {} })).matters.map((m) => m.title);
    expect(matters).toContain('The sequence Needs berths did not come back when it was tried');
    await admin.call('changeDrillPlan', { id: ids.get('berths')!, body: { checks: [], objective: null, weight: 1 } });
  });

  it('fails where of something there is no point at all', async () => {
    const sequence = await add('Never protected', [step('never'), step('portal', [0])]);
    const run = await ended((await admin.call('trySequence', { id: sequence })).id);
    expect(statesOf(run)).toEqual(['failed', 'blocked']);
    expect(run.steps[0]!.says).toBe('There is no point of never that could be brought back.');
  });

  it('is stopped by a person: nothing further begins', async () => {
    const sequence = await add('Stopped', [step('berths'), step('portal', [0], 60)]);
    const { id } = await admin.call('trySequence', { id: sequence });
    await until(id, (run) => run.steps[0]!.state === 'back');
    await (await h.as('operator')).call('stopSequenceRun', { id });
    const run = await ended(id);
    expect(run.state).toBe('stopped');
    expect(statesOf(run)).toEqual(['back', 'stopped']);
    await expect(admin.call('stopSequenceRun', { id })).rejects.toMatchObject({ code: 'NOT_NOW' });
  });
});

describe('a sequence that is started as it is', () => {
  const reason = 'the harbour was flooded';
  const kept = new Map<string, string>();
  beforeAll(() => {
    for (const name of names) kept.set(name, treeOf(name));
  });
  const isBack = (name: Name) => {
    expect(treeOf(name)).toBe(kept.get(name));
  };
  const flood = (...lost: Name[]) => {
    for (const name of lost) for (const file of fs.readdirSync(folderOf(name))) fs.rmSync(`${folderOf(name)}/${file}`);
  };

  it('says before what each step would do, and brings everything back in its order, also when mover and server are gone meanwhile', async () => {
    const proof = `${h.folder}/proof`;
    const schedule = { every: 'day' as const, at: '05:00' };
    const { id: standing } = await admin.call('addStanding', {
      body: { name: 'Boards beside', workloads: [ids.get('boards')!], schedule, destination: { to: 'folder', folder: proof }, reason },
    });
    const sequence = await add('Flood', [
      step('berths'),
      step('portal', [0]),
      { restore: { by: 'standing', id: standing }, after: [1], wait: 0 },
    ]);
    const { steps: looks } = await admin.call('lookAtSequence', { id: sequence });
    expect(looks.map((l) => [l.name, l.moments.length, l.says.filter((s) => s.level === 'stop')])).toEqual([
      ['berths', 1, []],
      ['portal', 1, []],
      ['Boards beside', 1, []],
    ]);
    expect(looks[2]!.place).toContain(proof);
    for (const role of ['operator', 'auditor', 'clerk'] as const)
      await expect((await h.as(role)).call('startSequence', { id: sequence, body: { reason } })).rejects.toMatchObject({
        code: 'NOT_ALLOWED',
      });
    flood('berths', 'portal');
    const { id } = await admin.call('startSequence', { id: sequence, body: { reason } });
    await expect((await h.as('operator')).call('stopSequenceRun', { id })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    await h.killMover('mover-1');
    await h.server.close();
    await h.startServer();
    h.startMover('mover-2');
    const run = await ended(id);
    expect(run).toMatchObject({ state: 'done', trial: false, reason });
    isBack('berths');
    isBack('portal');
    const [day] = fs.readdirSync(`${proof}/boards`).filter((name) => !name.startsWith('.'));
    expect(fs.readdirSync(`${proof}/boards/${day}`)).toHaveLength(40);
    const [begin, end] = [run.steps[1]!.beganAt!, run.steps[0]!.endedAt!];
    expect(begin).toBeGreaterThanOrEqual(end);
    await admin.call('removeStanding', { id: standing });
    expect((await admin.call('lookAtSequence', { id: sequence })).steps[2]).toMatchObject({ says: [{ level: 'stop' }] });
  });

  it('waits where a step fails, until somebody has it tried again or goes on without it', async () => {
    const sequence = await add('Half lost', [step('never'), step('berths', [0]), step('portal', [1])]);
    flood('berths', 'portal');
    const before = await restoresOf();
    const { id } = await admin.call('startSequence', { id: sequence, body: { reason } });
    const halted = await ended(id);
    expect(statesOf(halted)).toEqual(['failed', 'blocked', 'blocked']);
    expect(halted.steps[0]!.says).toContain('There is no good point of never');
    expect(await restoresOf()).toBe(before);
    const matters = (await admin.call('watch', { query: {} })).matters;
    expect(matters).toContainEqual(expect.objectContaining({ title: 'The sequence Half lost waits for a decision', level: 'fault' }));
    await admin.call('moveSequenceRun', { id, body: { step: 0, how: 'again' } });
    expect(statesOf(await ended(id))).toEqual(['failed', 'blocked', 'blocked']);
    const left = (await admin.call('startSequence', { id: await add('Left so', [step('never'), step('boards', [0])]), body: { reason } }))
      .id;
    expect(statesOf(await ended(left))).toEqual(['failed', 'blocked']);
    await admin.call('stopSequenceRun', { id: left });
    expect(await runOf(left)).toMatchObject({ state: 'stopped', steps: [{ state: 'failed' }, { state: 'stopped' }] });
    await expect(admin.call('moveSequenceRun', { id, body: { step: 1, how: 'again' } })).rejects.toMatchObject({ code: 'NOT_NOW' });
    await expect((await h.as('operator')).call('moveSequenceRun', { id, body: { step: 0, how: 'without' } })).rejects.toMatchObject({
      code: 'NOT_ALLOWED',
    });
    await admin.call('moveSequenceRun', { id, body: { step: 0, how: 'without' } });
    const run = await ended(id);
    expect(statesOf(run)).toEqual(['passedOver', 'back', 'back']);
    expect(run.state).toBe('done');
    isBack('berths');
    isBack('portal');
    const acts = (await admin.call('audit', { query: {} })).rows.map((r) => r.action);
    expect(acts.filter((a) => a.startsWith('sequence.')).slice(0, 2)).toEqual(['sequence.end', 'sequence.without']);
  });

  /** Whether the mover takes tasks; it answers questions all the same. */
  const letTake = (takes: boolean) => admin.call('changeMover', { id: 'mover-2', body: { drained: !takes, tasks: 2, place: '' } });

  it('can be tried again where somebody stopped one of its restores, and is over where all of it was stopped', async () => {
    const sequence = await add('Interrupted', [step('berths'), step('portal', [0])]);
    flood('berths', 'portal');
    await letTake(false);
    const { id } = await admin.call('startSequence', { id: sequence, body: { reason } });
    await admin.call('stopRun', { id: (await runOf(id)).steps[0]!.runId! });
    expect(statesOf(await ended(id))).toEqual(['failed', 'blocked']);
    await admin.call('moveSequenceRun', { id, body: { step: 0, how: 'again' } });
    expect(statesOf(await runOf(id))).toEqual(['running', 'waiting']);
    await admin.call('stopSequenceRun', { id });
    const run = await ended(id);
    expect(run.state).toBe('stopped');
    expect(statesOf(run)).toEqual(['stopped', 'stopped']);
    await expect(admin.call('moveSequenceRun', { id, body: { step: 0, how: 'again' } })).rejects.toMatchObject({ code: 'NOT_NOW' });
    await letTake(true);
    const again = await admin.call('startSequence', { id: sequence, body: { reason } });
    expect((await ended(again.id)).state).toBe('done');
    isBack('berths');
    isBack('portal');
  });

  it('brings back what is gone from where it was', async () => {
    const { db } = h.server.deps;
    await db('workload')
      .where({ id: ids.get('portal')! })
      .update({ gone_at: Date.now() });
    flood('portal');
    const sequence = await add('Gone', [step('portal')]);
    expect((await admin.call('lookAtSequence', { id: sequence })).steps).toMatchObject([{ name: 'portal', moments: [expect.any(Number)] }]);
    const run = await ended((await admin.call('startSequence', { id: sequence, body: { reason } })).id);
    expect(run).toMatchObject({ state: 'done', steps: [{ name: 'portal' }] });
    isBack('portal');
    await db('workload')
      .where({ id: ids.get('portal')! })
      .update({ gone_at: null });
  });

  it('brings back nothing in which something infected was found', async () => {
    const { pointList } = await admin.call('workload', { id: ids.get('boards')! });
    const seen = { rules: 'r', rules_at: 0, scanned_at: 0, items: 1, bytes: 1, bytes_read: 1, not_looked: 0, suspect: 0, infected: 1 };
    const scans = pointList.map((p) => ({
      ...seen,
      point_id: p.id,
      workload_id: ids.get('boards')!,
      sensitive_too: false,
      told_all: true,
    }));
    await h.server.deps.db('point_scan').insert(scans);
    const run = await ended((await admin.call('startSequence', { id: await add('Infected', [step('boards')]), body: { reason } })).id);
    expect(run.steps).toMatchObject([
      {
        state: 'failed',
        says: 'There is no good point of boards: each is suspect, in parts, or something infected was found in it.',
      },
    ]);
    await h.server.deps.db('point_scan').delete();
  });

  it('is not begun twice, however many servers look at it at once', async () => {
    const sequence = await add('Once', [step('berths'), step('portal')]);
    flood('berths', 'portal');
    const before = await restoresOf();
    const { id } = await admin.call('startSequence', { id: sequence, body: { reason } });
    await Promise.all(Array.from({ length: 6 }, () => h.tick()));
    expect((await ended(id)).state).toBe('done');
    expect((await restoresOf()) - before).toBe(2);
  });
});

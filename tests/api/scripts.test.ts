import fs from 'node:fs';
import type { RunDetail } from '@lithodex/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let policyId: number;
let body: ReturnType<typeof policyFor>;

beforeAll(async () => {
  h = await Harness.start({ schedulerMs: 0, scripts: true });
  admin = await h.as('administrator');
  const { source, workloadId, targetId } = await h.connect(admin);
  fs.writeFileSync(`${source}/log`, 'tide');
  body = policyFor([workloadId], targetId);
  policyId = (await admin.call('addPolicy', { body })).id;
  for (const [name, text] of [
    ['freeze.sh', 'echo "quiet, $LITHODEX_WORKLOAD"'],
    ['thaw.sh', 'echo "awake after $LITHODEX_OUTCOME"'],
    ['fails.sh', 'echo "no room" >&2; exit 2'],
  ] as const) {
    fs.writeFileSync(`${h.folder}/scripts/${name}`, `#!/bin/sh\n${text}\n`);
    fs.chmodSync(`${h.folder}/scripts/${name}`, 0o755);
  }
});
afterAll(() => h.stop());

async function run(before: string | null, after: string | null, trial = false): Promise<RunDetail & { log: string[] }> {
  await h.agree(await admin.call('changePolicy', { id: policyId, body: { ...body, scripts: { before, after, minutes: 1 } } }));
  const { runId } = await admin.call('runPolicy', { id: policyId, body: { trial } });
  const ended = await admin.ended(runId);
  const { rows } = await admin.call('runLog', { id: runId, query: {} });
  return { ...ended, log: rows.map((l) => l.message) };
}

describe('scripts of a policy', () => {
  it('run before and after, and take phases of their own', async () => {
    const done = await run('freeze.sh', 'thaw.sh');
    expect(done.state).toBe('done');
    expect(done.log).toContain('freeze.sh: quiet, quay-1');
    expect(done.log).toContain('thaw.sh: awake after done');
    expect(done.tasks[0]!.phases.map((p) => p.name)).toEqual(expect.arrayContaining(['script before', 'reading', 'script after']));
  });

  type Ends = { started_at: number; ended_at: number; measured_ms: number };
  it('leave a run whose rates can be seen over its time', async () => {
    const { rows } = await admin.call('listRuns', { query: { kinds: 'backup', states: 'done', limit: 1 } });
    const [run] = rows;
    const { from, slotMs, read } = await admin.call('runRates', { id: run!.id });
    expect(from).toBe(run!.startedAt);
    const task = await h.server.deps.db('task').where({ run_id: run!.id }).first<Ends>('started_at', 'ended_at', 'measured_ms');
    // at the rates of its mover it would have moved as much more as the task took longer than the mover
    const moved = (run!.counts.read * (task.ended_at - task.started_at)) / task.measured_ms;
    expect((read.reduce((a, b) => a + b, 0) * slotMs) / 1000).toBeCloseTo(moved, 0);
    await expect(admin.call('runRates', { id: 999_999 })).rejects.toMatchObject({ code: 'NOT_FOUND' });
  });

  it('keep a backup from being taken when the one before fails; the one after runs all the same', async () => {
    const points = async () => (await admin.call('listPolicies')).rows[0]!.points;
    const before = await points();
    const failed = await run('fails.sh', 'thaw.sh');
    expect(failed.state).toBe('failed');
    expect(failed.tasks[0]!.cause).toMatchObject({ code: 'SCRIPT_FAILED', message: 'The script fails.sh failed: it ended with 2.' });
    expect(failed.log).toEqual(expect.arrayContaining(['fails.sh: no room', 'thaw.sh: awake after failed']));
    expect(await points()).toBe(before);
  });

  it('leave a remark when the one after fails: the point is there', async () => {
    const remarks = await run(null, 'fails.sh');
    expect(remarks.state).toBe('remarks');
    expect(remarks.tasks[0]!.pointId).not.toBeNull();
  });

  it('are looked for by a trial run', async () => {
    const trial = await run('nothing.sh', null, true);
    expect(trial.tasks[0]!.cause).toMatchObject({ code: 'SCRIPT_REFUSED' });
  });

  it.each(['../freeze.sh', '/bin/sh', 'a b', '.hidden', ''])('are not named %j', async (before) => {
    const change = admin.call('changePolicy', { id: policyId, body: { ...body, scripts: { before } } });
    await expect(change).rejects.toMatchObject({ code: 'INVALID' });
  });
});

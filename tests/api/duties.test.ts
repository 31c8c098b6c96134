import fs from 'node:fs';
import { moverLanguage } from '@lithodex/contract';
import { issueToken, type Duty } from '@lithodex/server';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Client, Harness, type Refused } from '../support/harness';

let h: Harness;
let admin: Client;
let connected: Awaited<ReturnType<Harness['connect']>>;

beforeAll(async () => {
  h = await Harness.start({ claimWaitMs: 300 });
  admin = await h.withToken('administrator');
  connected = await h.connect(admin);
  fs.writeFileSync(`${connected.source}/notice`, 'fairway closed');
  await admin.ended((await admin.call('protectOnce', { id: connected.workloadId, body: { keep: { by: 'days', days: 1 } } })).runId);
  await h.killMover('mover-1');
});
afterAll(() => h.stop());

/** A mover of these duties, played by the test. */
async function moverWith(...duties: Duty[]): Promise<Client> {
  const token = await issueToken(h.server.deps, duties.join('-'), 'mover', 'setup', { duties });
  return new Client(() => h.base, token);
}

async function claimed(mover: Client): Promise<{ id: string; type: string; attempt: number } | null> {
  const { task } = await mover.call('claim', { body: { mover: 'played', speaks: moverLanguage } });
  return task && { id: task.id, type: task.work.type, attempt: task.attempt };
}

const finished = {
  outcome: 'stopped' as const,
  cause: null,
  counts: { items: 0, files: 0, bytes: 0, read: 0, stored: 0, warnings: 0, failed: 0, missing: 0 },
  phases: [],
  measured: { ms: 1, bytes: 0 },
};

describe('a mover', () => {
  it('is given what its duties cover and nothing else, and is told what opens a target only where it keeps', async () => {
    const [captures, keeps, prunes] = [await moverWith('capture'), await moverWith('capture', 'keep'), await moverWith('prune')];
    const { runId } = await admin.call('pruneTarget', { id: connected.targetId, body: {} });
    expect([await claimed(captures), await claimed(keeps)]).toEqual([null, null]);
    const prune = await claimed(prunes);
    expect(prune?.type).toBe('prune');
    await prunes.call('finishTask', { id: prune!.id, body: { ...finished, attempt: prune!.attempt } });
    expect((await admin.ended(runId)).state).toBe('stopped');

    await admin.call('protectOnce', { id: connected.workloadId, body: {} });
    expect([await claimed(captures), await claimed(prunes)]).toEqual([null, null]);
    const backup = await claimed(keeps);
    expect(backup?.type).toBe('backup');
    await keeps.call('finishTask', { id: backup!.id, body: { ...finished, attempt: backup!.attempt } });
  });

  it('is asked what its duties cover: of sources by one that captures, of targets by one that keeps', async () => {
    const [captures, keeps] = [await moverWith('capture'), await moverWith('keep')];
    const no = { ok: false, answer: { code: 'NO', message: 'not now' } };
    const askedOf = async (mover: Client) => {
      const { id, question } = await mover.call('questions', { body: { mover: 'played', speaks: moverLanguage } });
      await mover.call('answer', { id: id!, body: no });
      return question!.ask;
    };
    const code = (error: unknown) => (error as Refused).code;
    const place = { kind: 'folder' as const, folder: `${h.folder}/far` };
    const waiting = [askedOf(captures), askedOf(keeps)];
    const asking = [
      admin.call('testTarget', { body: { name: 'far', place } }).catch(code),
      admin.call('testSource', { body: { name: 'far', folder: '/none' } }).catch(code),
    ];
    expect(await Promise.all(waiting)).toEqual(['probe', 'targetTest']);
    expect(await Promise.all(asking)).toEqual(['MOVER_FAILED', 'MOVER_FAILED']);
  });

  it('can not speak for a task that was given to another', async () => {
    const [one, other] = [await moverWith('capture', 'keep'), await moverWith('capture', 'keep', 'prune')];
    const { runId } = await admin.call('protectOnce', { id: connected.workloadId, body: {} });
    const task = (await claimed(one))!;
    const body = { ...finished, attempt: task.attempt };
    for (const act of [
      () => other.call('finishTask', { id: task.id, body }),
      () => other.call('renew', { id: task.id, body: { attempt: task.attempt, progress: null, logSeq: 0, log: [] } }),
      () => other.call('sendItems', { id: task.id, body: { attempt: task.attempt, seq: 0, changes: [] } }),
      () => other.call('aliveTasks', { id: task.id, body: { attempt: task.attempt, tasks: [task.id] } }),
    ])
      await expect(act()).rejects.toMatchObject({ code: 'LEASE_LOST' });
    await one.call('finishTask', { id: task.id, body });
    expect((await admin.ended(runId)).state).toBe('stopped');
  });
});

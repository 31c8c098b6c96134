import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import type { BodyInput } from '@lithodex/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let source: string;
let workloadId: number;
let targetId: string;
// a Friday
const clock = { at: Date.parse('2026-10-02T20:00:00Z'), now: () => clock.at };
const day = 86_400_000;

beforeAll(async () => {
  h = await Harness.start({ clock, leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
  ({ source, workloadId, targetId } = await h.connect(admin));
  fs.writeFileSync(`${source}/still`, randomBytes(90_000));
});
afterAll(() => h.stop());

const points = async () => (await admin.call('workload', { id: workloadId })).pointList.filter((p) => !p.expired);
const byAge = async () => (await points()).sort((a, b) => a.moment - b.moment || (a.runId ?? 0) - (b.runId ?? 0));
/** Points as kind, bytes read and day of the point each builds on. */
const told = async () => (await byAge()).map((p) => [p.kind, p.read, p.buildsOn && new Date(p.buildsOn).toISOString().slice(5, 10)]);

describe('kinds of run', () => {
  it('reads what each kind says, and names what each builds on', async () => {
    const body = policyFor([workloadId], targetId, { kind: 'differential', changeLimit: 100, keep: { by: 'days', days: 60 } });
    const { id } = await admin.call('addPolicy', { body });
    for (const bytes of [1_000, 2_000, 3_000]) {
      fs.writeFileSync(`${source}/of ${bytes}`, randomBytes(bytes));
      expect((await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId)).state).toBe('done');
      clock.at += day;
    }
    expect(await told()).toEqual([
      ['full', 91_000, null],
      ['differential', 2_000, '10-02'],
      ['differential', 5_000, '10-02'],
    ]);
    await admin.call('removePolicy', { id });
  });

  it('puts a full together with the first point of a week, which counts once with the point it is made of and goes with it', async () => {
    const body = policyFor([workloadId], targetId, {
      name: 'Weekly',
      synthetic: 'week',
      changeLimit: 100,
      keep: { by: 'points', points: 2 },
    });
    const { id } = await admin.call('addPolicy', { body });
    const protect = async () => {
      fs.writeFileSync(`${source}/tides`, randomBytes(4_000));
      expect((await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId)).state).toBe('done');
      await h.round();
      await h.round();
    };
    // a Monday
    await protect();
    expect((await told()).slice(-2)).toEqual([
      ['incremental', 4_000, '10-04'],
      ['synthetic', 0, '10-05'],
    ]);
    const [made] = (await admin.call('listRuns', { query: {} })).rows.filter((r) => r.pointKind === 'synthetic');
    expect(made).toMatchObject({ state: 'done', counts: { read: 0 } });
    const { rows } = await admin.call('runLog', { id: made!.id, query: {} });
    expect(rows.find((r) => r.code === 'PUT_TOGETHER')?.message).toContain('every sum matches; nothing was read from the source');
    clock.at += day;
    await protect();
    expect((await byAge()).slice(-3).map((p) => p.kind)).toEqual(['incremental', 'synthetic', 'incremental']);
    clock.at += day;
    await protect();
    expect((await byAge()).slice(-2).map((p) => p.kind)).toEqual(['incremental', 'incremental']);
    expect((await points()).filter((p) => p.kind === 'synthetic')).toEqual([]);
    await admin.call('removePolicy', { id });
  });

  it('stores everything again for a fresh full only', async () => {
    const stored = async (body: BodyInput<'protectOnce'>) => {
      const run = await admin.ended((await admin.call('protectOnce', { id: workloadId, body })).runId);
      expect(run).toMatchObject({ state: 'done', pointKind: 'full' });
      const codes = (await admin.call('runLog', { id: run.id, query: {} })).rows.map((line) => line.code);
      expect(codes.includes('STORED_ANEW')).toBe(body.fresh === true);
      return run.counts;
    };
    expect(await stored({ kind: 'full' })).toMatchObject({ stored: 0 });
    const { files, bytes, read, stored: anew } = await stored({ kind: 'full', fresh: true });
    expect([files > 0, read, anew > 0]).toEqual([true, bytes, true]);
    await expect(admin.call('protectOnce', { id: workloadId, body: { kind: 'incremental', fresh: true } })).rejects.toMatchObject({
      code: 'INVALID',
    });
  });

  it('takes a point of any kind by hand, and refuses to plan nothing but fulls put together', async () => {
    const { runId } = await admin.call('protectOnce', { id: workloadId, body: { kind: 'synthetic', note: 'before the audit' } });
    const run = await admin.ended(runId);
    expect(run).toMatchObject({ state: 'done', pointKind: 'synthetic', counts: { read: 0 } });
    const bad = policyFor([workloadId], targetId, { kind: 'synthetic' as unknown as 'full' });
    await expect(admin.call('addPolicy', { body: bad })).rejects.toMatchObject({ code: 'INVALID' });
  });
});

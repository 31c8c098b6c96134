import fc from 'fast-check';
import type { Knex } from 'knex';
import { moverLanguage } from '@lithodex/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { expireAll } from '@lithodex/server';
import { Harness, policyFor, type Client } from '../support/harness';

const day = 86_400_000;
/** A Monday, shortly before the nightly runs. */
const began = Date.UTC(2027, 0, 4, 21, 50);
const clock = {
  at: began,
  now() {
    return this.at;
  },
};
let h: Harness;
let admin: Client;
let operator: Client;
let mover: Client;
let db: Knex;

beforeAll(async () => {
  h = await Harness.start({ movers: 0, clock, schedulerMs: 0, leaseMs: 600_000, claimWaitMs: 0 });
  mover = await h.withToken('mover');
  [admin, operator] = [await h.as('administrator'), await h.as('operator')];
  ({ db } = h.server.deps);
});
afterAll(() => h.stop());

const none = { items: 1, files: 1, bytes: 1, read: 1, stored: 1, warnings: 0 };
const counts = { ...none, failed: 0, missing: 0 };
const totals = {
  ...none,
  fresh: 1,
  previous: null,
  base: null,
  complete: true,
  lockedUntil: null,
  machine: null,
  changes: { before: 1, added: 0, changed: 0, removed: 0, random: 0, turnedRandom: 0, renamed: 0 },
};
const nightly = { every: 'day', at: '22:00' } as const;
type Keep = { by: 'days'; days: number } | { by: 'points'; points: number };

/** A workload and two targets, as if they were connected. */
async function ground(): Promise<{ workloadId: number; targets: [string, string] }> {
  const name = `w${Math.random().toString(36).slice(2)}`;
  const [source] = (await db('source').insert({ name, folder: Buffer.from(`/${name}`), location: '', cross_fs: false, created_at: 0 })) as [
    number,
  ];
  const [workloadId] = (await db('workload').insert({ source_id: source, name, created_at: 0 })) as [number];
  const targets = ['near', 'far'].map(
    (t, i) => `0000000${i}-0000-4000-8000-${Math.random().toString(16).slice(2, 14).padEnd(12, '0')}`,
  ) as [string, string];
  for (const [i, id] of targets.entries())
    await db('target').insert({ id, name: `${name} ${i}`, folder: `/${name}/${i}`, location: '', created_at: i });
  return { workloadId, targets };
}

/** Ends what waits as a mover would: backups make a point, copies stand, the rest is done. */
async function work(): Promise<void> {
  for (;;) {
    const { task } = await mover.call('claim', { body: { mover: 'by-hand', speaks: moverLanguage } });
    if (!task) return;
    const { id, attempt, work } = task;
    if (work.type === 'backup')
      await mover.call('commitPoint', { id, body: { attempt, pointId: id, point: { ...totals, moment: work.moment, kind: work.kind } } });
    if (work.type === 'copy')
      for (const { taskId } of work.points)
        await mover.call('pointCopied', { id, body: { attempt, pointId: taskId, stored: 1, lockedUntil: null } });
    await mover.call('finishTask', {
      id,
      body: { attempt, outcome: 'done', cause: null, counts, phases: [], measured: { ms: 1, bytes: 1 } },
    });
  }
}

/** The next time the nightly runs come after an instant. */
const nextNight = (at: number) => Math.ceil((at + 1 - 22 * 3_600_000) / day) * day + 22 * 3_600_000;

describe('what was promised', () => {
  /** Until when each copy was promised to stay, told from the policy in force when it came to be, by arithmetic of its own. */
  const promised = new Map<string, number>();

  const keepArb: fc.Arbitrary<Keep> = fc.oneof(
    fc.integer({ min: 1, max: 12 }).map((days): Keep => ({ by: 'days', days })),
    fc.integer({ min: 1, max: 8 }).map((points): Keep => ({ by: 'points', points })),
  );
  const actArb = fc.oneof(
    { weight: 4, arbitrary: fc.constant({ act: 'night' as const }) },
    { weight: 3, arbitrary: fc.record({ act: fc.constant('change' as const), keep: keepArb, far: keepArb }) },
    { weight: 2, arbitrary: fc.record({ act: fc.constant('byHand' as const), times: fc.integer({ min: 1, max: 4 }) }) },
    { weight: 1, arbitrary: fc.constant({ act: 'once' as const }) },
    { weight: 1, arbitrary: fc.constant({ act: 'end' as const }) },
    { weight: 1, arbitrary: fc.constant({ act: 'lift' as const }) },
    { weight: 1, arbitrary: fc.constant({ act: 'retire' as const }) },
    { weight: 1, arbitrary: fc.constant({ act: 'agreeAlone' as const }) },
    { weight: 1, arbitrary: fc.constant({ act: 'another' as const }) },
  );

  it('stays, whatever one administrator and any operators do', async () => {
    let copies = 0;
    const rounds = Number(process.env['LITHODEX_PROMISES'] ?? 4);
    await fc.assert(
      fc.asyncProperty(keepArb, keepArb, fc.array(actArb, { minLength: 4, maxLength: 14 }), async (keep, far, acts) => {
        promised.clear();
        clock.at = began;
        const { workloadId, targets } = await ground();
        const body = (k: Keep, f: Keep, name = `p${workloadId}`) =>
          policyFor([workloadId], targets[0], {
            name,
            keep: k,
            schedule: nightly,
            zone: 'UTC',
            copies: [{ targetId: targets[1], rhythm: 'every', keep: f, lockDays: null }],
          } as never);
        let { id } = await admin.call('addPolicy', { body: body(keep, far) });
        let terms: { near: Keep; far: Keep } | null = { near: keep, far };
        const note = async (scheduled: boolean) => {
          const rows = await db('copy as c')
            .join('point as p', 'p.id', 'c.point_id')
            .where({ 'p.workload_id': workloadId, 'c.state': 'present' })
            .whereNotNull('p.policy_id')
            .select<{ point: string; target: string; moment: number }[]>('p.id as point', 'c.target_id as target', 'p.moment');
          for (const { point, target, moment } of rows) {
            const key = `${point} ${target}`;
            if (promised.has(key) || !terms) continue;
            const kept = target === targets[0] ? terms.near : terms.far;
            // so many nights come before it goes
            const end = kept.by === 'days' ? moment + kept.days * day : scheduled ? nextNight(moment) + (kept.points - 1) * day : 0;
            promised.set(key, end);
            copies++;
          }
        };
        let retired = false;
        for (const step of acts) {
          switch (step.act) {
            case 'night':
              clock.at += day;
              if (terms) await h.tick();
              await work();
              await note(true);
              break;
            case 'change':
              if (terms && !retired) {
                const { request } = await admin.call('changePolicy', { id, body: body(step.keep, step.far) });
                if (request === null) terms = { near: step.keep, far: step.far };
                else await admin.call('refuseRequest', { id: request });
              }
              break;
            case 'byHand':
              for (let n = 0; n < step.times; n++) {
                clock.at += 60_000;
                await operator.fetch('runPolicy', { id, body: {} });
                await work();
                await note(false);
              }
              break;
            case 'once':
              clock.at += 60_000;
              await operator.fetch('protectOnce', {
                id: workloadId,
                body: { kind: 'full', keep: { by: 'days', days: 1 }, note: 'for a test' },
              });
              await work();
              break;
            case 'end':
              await admin.fetch('removePolicy', { id });
              terms = null;
              break;
            case 'lift':
              await admin.fetch('liftSuspicion', { id: workloadId, body: { reason: 'for a test' } });
              break;
            case 'retire': {
              if (retired) break;
              const to = promised.size % 2;
              const { status } = await admin.fetch('retireTarget', { id: targets[1 - to], body: { to: targets[to] } });
              retired = status === 200;
              await work();
              break;
            }
            case 'agreeAlone':
              for (const r of (await admin.call('listRequests')).rows) await admin.fetch('agreeRequest', { id: r.id });
              await admin.fetch('forgetTarget', { id: targets[1] });
              break;
            case 'another':
              if (!terms && !retired) {
                const other = await admin.call('addPolicy', {
                  body: body({ by: 'points', points: 1 }, { by: 'points', points: 1 }, `q${workloadId} ${clock.at}`),
                });
                id = other.id;
                terms = { near: { by: 'points', points: 1 }, far: { by: 'points', points: 1 } };
              }
          }
          await expireAll(h.server.deps);
          const standing = new Set(
            (
              await db('copy as c')
                .join('point as p', 'p.id', 'c.point_id')
                .where({ 'p.workload_id': workloadId, 'c.state': 'present' })
                .select<{ key: string }[]>(db.raw("CONCAT(p.id, ' ', c.target_id) AS `key`"))
            ).map((r) => r.key),
          );
          for (const [key, end] of promised)
            if (end > clock.at)
              expect(
                standing.has(key),
                `${key} until ${new Date(end).toISOString()} at ${new Date(clock.at).toISOString()} after ${JSON.stringify(acts)}`,
              ).toBe(true);
        }
      }),
      { numRuns: rounds, endOnFailure: true },
    );
    expect(copies).toBeGreaterThan(rounds);
  });
});

import { randomUUID } from 'node:crypto';
import type { Target, TargetTest } from '@lithodex/contract';
import { appendAudit } from '../audit/trail';
import { inTransaction } from '../db/open';
import type { Knex } from 'knex';
import type { Deps } from '../deps';
import { ApiError, found } from '../errors';
import type { Actor } from '../http/access';
import type { Handlers } from '../http/bind-routes';
import { queuePrune, queueVerify } from '../runs/target-care';

type TargetHandlers = Pick<Handlers, 'listTargets' | 'testTarget' | 'addTarget' | 'pruneTarget' | 'verifyTarget' | 'envelope'>;

interface TargetRow {
  readonly id: string;
  readonly name: string;
  readonly folder: string;
  readonly location: string;
  readonly used: number | null;
  readonly free: number | null;
  readonly measured_at: number | null;
  readonly pruned_at: number | null;
  readonly verified_at: number | null;
  readonly trouble: string | null;
}

const clean = (folder: string) => (folder.length > 1 ? folder.replace(/\/+$/, '') : folder);
const freshMs = 60_000;

/** Asks a mover how full a target is and remembers the answer, or what kept it from answering. */
export async function measureTarget(deps: Deps, target: { id: string; folder: string }): Promise<void> {
  try {
    const room = await deps.movers.ask<{ used: number; free: number }>({ ask: 'targetRoom', target }, 5000);
    await deps
      .db('target')
      .where({ id: target.id })
      .update({ used: room.used, free: room.free, measured_at: deps.clock.now(), trouble: null });
  } catch (error) {
    if (error instanceof ApiError && error.code === 'MOVER_FAILED')
      await deps
        .db('target')
        .where({ id: target.id })
        .update({ trouble: error.message.slice(0, 500), measured_at: deps.clock.now() });
  }
}

/** Measures the targets whose figures are older than `olderThanMs`, where a mover can be asked. */
export async function measureStale(deps: Deps, olderThanMs: number): Promise<void> {
  if (!deps.movers.present().length) return;
  const stale = await deps
    .db('target')
    .whereNull('measured_at')
    .orWhere('measured_at', '<', deps.clock.now() - olderThanMs)
    .select<TargetRow[]>();
  for (const { id, folder } of stale) await measureTarget(deps, { id, folder });
}

export function targetHandlers(deps: Deps): TargetHandlers {
  const { db, clock } = deps;
  const care = async (targetId: string, actor: Actor, action: string, queue: (trx: Knex.Transaction) => Promise<number>) => {
    const runId = await inTransaction(db, async (trx) => {
      const id = await queue(trx);
      await appendAudit(trx, clock.now(), { actor: actor.name, action, object: `target ${targetId}`, detail: `run ${id}` });
      return id;
    });
    deps.movers.workAppeared();
    await deps.events.emit('run', { runId });
    return { runId };
  };
  return {
    async listTargets() {
      await measureStale(deps, freshMs);
      const rows = await db('target').orderBy('name').select<TargetRow[]>();
      const sums = await db('point as p')
        .join('series as s', 's.no', 'p.series_no')
        .where('p.state', 'visible')
        .groupBy('s.target_id')
        .select<{ target_id: string; n: number; bytes: number; stored: number }[]>(
          's.target_id',
          db.raw('COUNT(*) AS n, SUM(p.bytes) AS bytes, SUM(p.stored) AS stored'),
        );
      return {
        rows: rows.map((t): Target => {
          const sum = sums.find((s) => s.target_id === t.id);
          return {
            id: t.id,
            name: t.name,
            folder: t.folder,
            location: t.location,
            used: t.used,
            free: t.free,
            measuredAt: t.measured_at,
            prunedAt: t.pruned_at,
            verifiedAt: t.verified_at,
            points: Number(sum?.n ?? 0),
            allBytes: Number(sum?.bytes ?? 0),
            storedBytes: Number(sum?.stored ?? 0),
            trouble: t.trouble,
          };
        }),
      };
    },

    testTarget: ({ body }) => deps.movers.ask<TargetTest>({ ask: 'targetTest', folder: clean(body.folder) }),

    async addTarget({ body, actor }) {
      const folder = clean(body.folder);
      if (await db('target').where({ name: body.name }).orWhere({ folder }).first<{ id: string } | undefined>())
        throw new ApiError('NAME_TAKEN', undefined, 'There is a target of this name or in this folder.');
      const test = await deps.movers.ask<TargetTest>({ ask: 'targetTest', folder });
      if (!test.ok || test.holdsStore) throw new ApiError('TARGET_FAULTY', undefined, `${test.message} It was not saved.`);
      const id = randomUUID();
      await deps.movers.ask({ ask: 'targetCreate', folder, id });
      await inTransaction(db, async (trx) => {
        await trx('target').insert({ id, name: body.name, folder, location: body.location, created_at: clock.now(), free: test.free });
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'target.add',
          object: `target ${id}`,
          detail: JSON.stringify(body),
        });
      });
      await deps.events.emit('estate');
      return { id };
    },

    pruneTarget: ({ params, body, actor }) =>
      care(params.id, actor, body.trial ? 'target.pruneTrial' : 'target.prune', (trx) =>
        queuePrune(trx, clock.now(), params.id, { trial: body.trial, person: actor.name }),
      ),

    verifyTarget: ({ params, actor }) =>
      care(params.id, actor, 'target.verify', (trx) => queueVerify(trx, clock.now(), params.id, { part: null, person: actor.name })),

    async envelope({ params, body, actor }) {
      const target = found(await db('target').where({ id: params.id }).first<TargetRow | undefined>());
      const content = await deps.movers.ask<string>({
        ask: 'envelope',
        target: { id: target.id, folder: target.folder },
        name: target.name,
        passphrase: body.passphrase,
      });
      await inTransaction(db, (trx) =>
        appendAudit(trx, clock.now(), { actor: actor.name, action: 'target.envelope', object: `target ${target.id}` }),
      );
      return { fileName: `${target.name.replace(/[^\w.-]+/g, '-')}.key-envelope.json`, content };
    },
  };
}

import { randomUUID } from 'node:crypto';
import type { ShownPlace, Target, TargetPlace, TargetTest } from '@lithodex/contract';
import { appendAudit } from '../audit/trail';
import { inTransaction } from '../db/open';
import type { Knex } from 'knex';
import type { Deps } from '../deps';
import { ApiError, found } from '../errors';
import type { Actor } from '../http/access';
import type { Handlers } from '../http/bind-routes';
import { queuePrune, queueVerify } from './care';
import { placeColumns, refOf, shownPlace, type TargetRow } from './target-rows';

type TargetHandlers = Pick<Handlers, 'listTargets' | 'testTarget' | 'addTarget' | 'pruneTarget' | 'verifyTarget' | 'envelope'>;

/** Paths and addresses are compared as text, so they are brought into one form. */
function clean(place: TargetPlace): TargetPlace {
  if (place.kind === 'folder') return { ...place, folder: place.folder.length > 1 ? place.folder.replace(/\/+$/, '') : place.folder };
  return { ...place, endpoint: place.endpoint.replace(/\/+$/, '') };
}

/** Two places are one when they read the same. */
const placeText = (p: ShownPlace) => (p.kind === 'folder' ? p.folder : `${p.endpoint}/${p.bucket}/${p.prefix}`);

const freshMs = 60_000;
/** A trial of a bucket on a slow line takes a while. */
const testMs = 30_000;

/** Asks a mover how full a target is and remembers the answer, or what kept it from answering. */
export async function measureTarget(deps: Deps, target: TargetRow): Promise<void> {
  try {
    const room = await deps.movers.ask<{ used: number; free: number | null }>(
      { ask: 'targetRoom', target: refOf(deps.secrets, target) },
      5000,
    );
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
  for (const target of stale) await measureTarget(deps, target);
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
      const sums = await db('copy as c')
        .join('point as p', 'p.id', 'c.point_id')
        .where('c.state', 'present')
        .groupBy('c.target_id')
        .select<{ target_id: string; n: number; bytes: number; stored: number }[]>(
          'c.target_id',
          db.raw('COUNT(*) AS n, SUM(p.bytes) AS bytes, SUM(c.stored) AS stored'),
        );
      return {
        rows: rows.map((t): Target => {
          const sum = sums.find((s) => s.target_id === t.id);
          return {
            id: t.id,
            name: t.name,
            place: shownPlace(t),
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

    testTarget: ({ body }) => deps.movers.ask<TargetTest>({ ask: 'targetTest', place: clean(body.place) }, testMs),

    async addTarget({ body, actor }) {
      const place = clean(body.place);
      const id = randomUUID();
      const others = await db('target').orderBy('created_at').select<TargetRow[]>();
      if (others.some((t) => t.name === body.name || placeText(shownPlace(t)) === placeText(place)))
        throw new ApiError('NAME_TAKEN', undefined, 'There is a target of this name or at this place.');
      const test = await deps.movers.ask<TargetTest>({ ask: 'targetTest', place }, testMs);
      if (!test.ok || test.holdsStore) throw new ApiError('TARGET_FAULTY', test.needs, `${test.message} It was not saved.`);
      const found = place.kind === 'bucket' ? { ...place, locks: test.locks } : place;
      const columns = placeColumns(deps.secrets, id, found);
      const siblings = others.map((t) => refOf(deps.secrets, t));
      await deps.movers.ask({ ask: 'targetCreate', target: { id, place: found }, siblings }, testMs);
      await inTransaction(db, async (trx) => {
        await trx('target').insert({ id, name: body.name, ...columns, location: body.location, created_at: clock.now(), free: test.free });
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'target.add',
          object: `target ${id}`,
          detail: JSON.stringify({ name: body.name, location: body.location, place: shownPlace({ ...columns }) }),
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
        target: refOf(deps.secrets, target),
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

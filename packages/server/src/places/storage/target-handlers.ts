import { randomUUID } from 'node:crypto';
import { countOf } from '@lithodex/core';
import type { TargetBody, TargetPlace } from '@lithodex/contract';
import { auditTest } from '../../base/http/audit-test';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import type { Knex } from 'knex';
import type { Deps } from '../../acts/deps';
import { ApiError, found } from '../../base/errors';
import type { Actor } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { queueAdopt, queuePrune, queueVerify } from '../../acts/targets/care';
import { askSecondPerson } from '../../acts/people/second-person';
import { retire, whyKept } from '../../acts/targets/retire';
import { takenOver } from '../../acts/targets/settle';
import { mustBeOurs } from '../../records/targets/owned';
import { measureStale, outlooks } from '../../acts/targets/room';
import { toTarget, targetSums, detailOf, matrixOf } from './target-detail';
import { placeColumns, placeText, refOf, shownPlace, type TargetRow } from '../../records/targets/target-rows';

type TargetHandlers = Pick<
  Handlers,
  | 'listTargets'
  | 'getTarget'
  | 'cartridges'
  | 'setPrices'
  | 'setLimits'
  | 'keepNewest'
  | 'retireTarget'
  | 'forgetTarget'
  | 'settleTarget'
  | 'copiesMatrix'
  | 'testTarget'
  | 'addTarget'
  | 'takeOverTarget'
  | 'followTarget'
  | 'adoptTarget'
  | 'newKey'
  | 'pruneTarget'
  | 'verifyTarget'
  | 'envelope'
>;

/** A store that is there, and what opens it. */
type Opened = TargetBody & { readonly envelope: string; readonly passphrase: string };

/** Paths and addresses are compared as text, so they are brought into one form. */
function clean(place: TargetPlace): TargetPlace {
  const folder = 'folder' in place && { folder: place.folder.replace(/(.)\/+$/, '$1') };
  const endpoint = 'endpoint' in place && { endpoint: place.endpoint.replace(/\/+$/, '') };
  return { ...place, ...folder, ...endpoint };
}

const freshMs = 60_000;
/** A trial of a bucket on a slow line takes a while. */
const testMs = 30_000;

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
  /** Tries a place that no target has yet. Throws NAME_TAKEN. */
  async function tried(body: TargetBody) {
    const place = clean(body.place);
    const others = await db('target').orderBy('created_at').select<TargetRow[]>();
    if (others.some((t) => t.name === body.name || placeText(shownPlace(t)) === placeText(place)))
      throw new ApiError('NAME_TAKEN', undefined, 'There is a target of this name or at this place.');
    const test = await deps.movers.ask({ ask: 'targetTest', place }, testMs);
    return { id: randomUUID(), others, test, place: place.kind === 'bucket' ? { ...place, locks: test.locks } : place };
  }

  async function save(
    id: string,
    place: TargetPlace,
    body: TargetBody,
    actor: Actor,
    free: number | null,
    action: 'target.add' | 'target.takeOver' | 'target.follow',
    follows_every: number | null = null,
  ): Promise<void> {
    const columns = placeColumns(deps.secrets, id, place);
    await inTransaction(db, async (trx) => {
      const settings_held = action !== 'target.add';
      await trx('target').insert({
        id,
        name: body.name,
        ...columns,
        location: body.location,
        created_at: clock.now(),
        free,
        settings_held,
        follows_every,
        // who takes a store over has its envelope
        envelope_at: settings_held ? clock.now() : null,
      });
      const detail = JSON.stringify({ name: body.name, location: body.location, place: shownPlace({ ...columns }) });
      await appendAudit(trx, clock.now(), { actor: actor.name, action, object: `target ${id}`, detail });
    });
    await deps.events.emit('estate');
  }

  /** Opens a store that is there with its envelope: to own it, or to read it every so many minutes. */
  async function takeIn(body: Opened, actor: Actor, every: number | null): Promise<{ id: string; runId: number }> {
    const { id, place, test } = await tried(body);
    if (!test.holdsStore) throw new ApiError('TARGET_FAULTY', test.needs, 'There is no store at this place. Nothing was changed.');
    const { envelope, passphrase } = body;
    const target = { id, place, owner: deps.secrets.installation, follows: every !== null };
    await deps.movers.ask({ ask: 'targetTakeOver', target, envelope, passphrase }, testMs);
    await save(id, place, body, actor, test.free, every === null ? 'target.takeOver' : 'target.follow', every);
    const { runId } = await care(id, actor, 'target.adopt', (trx) => queueAdopt(trx, clock.now(), id, actor.name));
    return { id, runId };
  }

  let measuring: Promise<void> | undefined;
  /** Beside the answer, which is of what is known: a mover may take its time. */
  const measure = () => {
    measuring ??= deps.answers
      .follow(measureStale(deps, freshMs))
      .catch((error: unknown) => {
        deps.log.warn({ err: error }, 'the room of the targets could not be measured');
      })
      .finally(() => {
        measuring = undefined;
      });
  };

  return {
    async listTargets() {
      measure();
      const sums = await targetSums(db);
      return { rows: (await outlooks(deps)).map((o) => toTarget(o.target, sums.get(o.target.id), o)) };
    },

    getTarget: async ({ params }) => detailOf(deps, found(await db('target').where({ id: params.id }).first<TargetRow | undefined>())),

    async cartridges({ params }) {
      const target = found(await db('target').where({ id: params.id }).first<TargetRow | undefined>());
      if (shownPlace(target).kind !== 'cartridges') return { rows: [] };
      return deps.movers.ask({ ask: 'cartridges', target: refOf(deps.secrets, target) }, testMs);
    },

    async setPrices({ params, body, actor }) {
      await inTransaction(db, async (trx) => {
        const prices = body.prices && JSON.stringify(body.prices);
        if (!(await trx('target').where({ id: params.id }).update({ prices }))) throw new ApiError('NOT_FOUND');
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'target.prices',
          object: `target ${params.id}`,
          detail: prices ?? 'none',
        });
      });
      await deps.events.emit('estate');
      return {};
    },

    async setLimits({ params, body, actor }) {
      await inTransaction(db, async (trx) => {
        if (
          !(await trx('target')
            .where({ id: params.id })
            .update({ writers: body.writers, paces: JSON.stringify(body.paces) }))
        )
          throw new ApiError('NOT_FOUND');
        const detail = JSON.stringify(body);
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'target.limits', object: `target ${params.id}`, detail });
      });
      deps.movers.workAppeared();
      await deps.events.emit('estate');
      return {};
    },

    async keepNewest({ params, body, actor }) {
      const target = found(await db('target').where({ id: params.id }).first<TargetRow | undefined>());
      if (body.files && shownPlace(target).kind !== 'folder')
        throw new ApiError('NOT_NOW', undefined, 'Only beside a store in a folder can ordinary files be kept.');
      await inTransaction(db, async (trx) => {
        await trx('target').where({ id: params.id }).update({ newest_files: body.files });
        const detail = JSON.stringify(body);
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'target.newest', object: `target ${params.id}`, detail });
      });
      await deps.events.emit('estate');
      return {};
    },

    async retireTarget({ params, body, actor }) {
      const runId = await retire(deps, params.id, body.to, actor.name);
      deps.movers.workAppeared();
      await deps.events.emit('policy');
      await deps.events.emit('estate');
      return { runId };
    },

    async forgetTarget({ params, actor }) {
      const kept = await whyKept(deps, params.id);
      if (kept) throw new ApiError('NOT_NOW', undefined, `${kept} Nothing was changed.`);
      const { name } = await db('target').where({ id: params.id }).first<{ name: string }>('name');
      const effect = `${name} is forgotten: its copies do not count any more. What is on it stays as it is.`;
      return { request: await askSecondPerson(deps, actor, `target ${params.id}`, effect, { kind: 'target.forget', id: params.id }) };
    },

    async settleTarget({ params, actor }) {
      await mustBeOurs(db, params.id);
      const { name } = found(await db('target').where({ id: params.id }).first<{ name: string } | undefined>('name'));
      const copies = (await takenOver(db, params.id)).length;
      if (!copies)
        throw new ApiError(
          'NOT_NOW',
          undefined,
          'Nothing that was taken over waits for that: either no policy protects it yet, or it is kept by policies already.',
        );
      const effect = `${name}: ${countOf(copies, 'copy', 'copies')} of points that were taken over with it are kept as the policies say from now on, and may go at once`;
      return { request: await askSecondPerson(deps, actor, `target ${params.id}`, effect, { kind: 'target.settle', id: params.id }) };
    },

    copiesMatrix: () => matrixOf(db),

    async testTarget({ body, actor }) {
      const place = clean(body.place);
      await auditTest(deps, actor, 'target.test', 'target', placeText(place));
      return deps.movers.ask({ ask: 'targetTest', place }, testMs);
    },

    async addTarget({ body, actor }) {
      const { id, place, others, test } = await tried(body);
      if (!test.ok || test.holdsStore) throw new ApiError('TARGET_FAULTY', test.needs, `${test.message} It was not saved.`);
      const siblings = others.map((t) => refOf(deps.secrets, t));
      await deps.movers.ask({ ask: 'targetCreate', target: { id, place, owner: deps.secrets.installation }, siblings }, testMs);
      await save(id, place, body, actor, test.free, 'target.add');
      return { id };
    },

    takeOverTarget: ({ body, actor }) => takeIn(body, actor, null),

    followTarget: ({ body, actor }) => takeIn(body, actor, body.every),

    async newKey({ params, actor }) {
      const target = found(await db('target').where({ id: params.id }).first<TargetRow | undefined>());
      await mustBeOurs(db, target.id);
      await deps.movers.ask({ ask: 'targetNewKey', target: refOf(deps.secrets, target) }, testMs);
      await inTransaction(db, (trx) =>
        appendAudit(trx, clock.now(), { actor: actor.name, action: 'target.newKey', object: `target ${target.id}` }),
      );
      return {};
    },

    adoptTarget: ({ params, actor }) =>
      care(params.id, actor, 'target.adopt', (trx) => queueAdopt(trx, clock.now(), params.id, actor.name)),

    pruneTarget: ({ params, body, actor }) =>
      care(params.id, actor, body.trial ? 'target.pruneTrial' : 'target.prune', (trx) =>
        queuePrune(trx, clock.now(), params.id, { trial: body.trial, person: actor.name }),
      ),

    verifyTarget: ({ params, actor }) =>
      care(params.id, actor, 'target.verify', (trx) => queueVerify(trx, clock.now(), params.id, { part: null, person: actor.name })),

    async envelope({ params, body, actor }) {
      const target = found(await db('target').where({ id: params.id }).first<TargetRow | undefined>());
      const content = await deps.movers.ask({
        ask: 'envelope',
        target: refOf(deps.secrets, target),
        name: target.name,
        passphrase: body.passphrase,
      });
      await inTransaction(db, async (trx) => {
        await trx('target').where({ id: target.id }).update({ envelope_at: clock.now() });
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'target.envelope', object: `target ${target.id}` });
      });
      await deps.events.emit('estate');
      return { fileName: `${target.name.replace(/[^\w.-]+/g, '-')}.key-envelope.json`, content };
    },
  };
}

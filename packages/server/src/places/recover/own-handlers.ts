import { escapePath, objectNameOf } from '@lithodex/core';
import type { AskedItem, Own } from '@lithodex/contract';
import type { Request } from 'express';
import type { Deps } from '../../acts/deps';
import { sendOwnCode, takeOwnCode } from '../../acts/people/own-sign-in';
import { auditSignIn, endSession } from '../../acts/people/steps';
import { restoreOfAsked } from '../../acts/recover/asked-restore';
import { lookForMissing } from '../../acts/recover/desk-look';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import { actorOf, type Actor } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { itemsAt } from '../../records/catalog/tree';
import { rulesOf } from '../../records/people/rules';
import { askingRows, receiptOf, shownAsking, type AskingRow } from '../../records/recover/asking-rows';
import { pathOf } from '../../records/recover/path-of';
import { pointFor } from '../../records/recover/point-access';
import { startRestore } from '../../acts/recover/start-restore';

type OwnHandlers = Pick<Handlers, 'ownCode' | 'ownSession' | 'own' | 'ownLook' | 'ownAsk' | 'ownRestore' | 'ownEnd'>;

const mostMoments = 100;
const mostReceipts = 20;

/** An item as somebody knows it: without what tells it from others of the same name. */
function askedItem(path: string): AskedItem {
  const parts = path.split('/').map(objectNameOf);
  const name = parts.at(-1) ?? '';
  const stem = name.replace(/ \[[0-9a-f]{1,10}\]\.(?:eml|ics|vcf)$/, '');
  const label = stem === name ? name : stem.replace(/^\d{4}-\d\d-\d\d \d{4} /, '');
  return { path: escapePath(path), label: label.slice(0, 1000), folder: parts.slice(1, -1).join(' / ').slice(0, 1000) };
}

/** People of an office tenant who signed in for themselves only. */
export function ownHandlers(deps: Deps): OwnHandlers {
  const { db, clock } = deps;

  /** The link somebody came by; undefined for who signed in by themselves. Throws NOT_SIGNED_IN where that has ended meanwhile. */
  async function caseOf({ session }: Request): Promise<AskingRow | undefined> {
    const askingId = session.asker?.askingId;
    if (askingId === null || askingId === undefined) {
      if (!(await rulesOf(db)).selfService) throw new ApiError('NOT_SIGNED_IN');
      return undefined;
    }
    const row = await askingRows(db).where('a.id', askingId).first<AskingRow | undefined>();
    if (!row || row.state === 'withdrawn' || row.ends_at <= clock.now()) throw new ApiError('NOT_SIGNED_IN');
    return row;
  }

  const workloadOf = ({ remit }: Actor) => remit?.[0] ?? 0;

  async function ownOf(actor: Actor, req: Request): Promise<Own> {
    const row = await caseOf(req);
    const workloadId = workloadOf(actor);
    const points = await db('point')
      .where({ workload_id: workloadId, state: 'visible' })
      .orderBy('moment', 'desc')
      .limit(mostMoments)
      .select<{ moment: number }[]>('moment');
    // by whose it is, not by a name: several may have the same
    const brought = row
      ? []
      : await db('asking as a')
          .join('run as r', 'r.id', 'a.run_id')
          .where('a.workload_id', workloadId)
          .orderBy('r.id', 'desc')
          .limit(mostReceipts)
          .select<{ id: number; name: string }[]>('r.id', 'r.name');
    const receipts = await Promise.all(brought.map(async ({ id, name }) => ({ receipt: await receiptOf(db, id), name })));
    return {
      name: actor.display,
      csrf: req.session.csrf ?? '',
      zone: deps.config.zone,
      now: clock.now(),
      asking: row ? await shownAsking(db, row, clock.now()) : null,
      moments: points.map((p) => p.moment),
      receipts: receipts.flatMap(({ receipt, name }) => (receipt ? [{ ...receipt, name }] : [])),
    };
  }

  /** What was chosen, found in a point of one's own. Throws OUTSIDE_REMIT, POINT_GONE, NOT_FOUND. */
  async function chosen(actor: Actor, pointId: string, paths: readonly string[]): Promise<AskedItem[]> {
    const point = await pointFor(db, pointId, actor);
    const wanted = [...new Set(paths.map(pathOf))];
    const there = await itemsAt(db, point.series_no, wanted, point.ordinal);
    if (wanted.some((path) => !there.has(path)))
      throw new ApiError('NOT_FOUND', undefined, 'Something that was chosen is not in that point.');
    return wanted.map(askedItem);
  }

  return {
    async ownCode({ body, req }) {
      return { to: await sendOwnCode(deps, req, body) };
    },

    async ownSession({ body: { code, ...by }, req }) {
      await takeOwnCode(deps, req, by, code);
      return ownOf(found(await actorOf(db, req)), req);
    },

    own: ({ actor, req }) => ownOf(actor, req),

    async ownLook({ body, actor, req }) {
      await caseOf(req);
      return lookForMissing(deps, actor, { ...body, workloadId: workloadOf(actor) });
    },

    async ownAsk({ body: { pointId, paths, words }, actor, req }) {
      const row = await caseOf(req);
      if (!row) throw new ApiError('NOT_NOW', undefined, 'You need not ask: bring it back yourself.');
      if (row.state !== 'sent' && row.state !== 'asked')
        throw new ApiError('NOT_NOW', undefined, 'The desk has decided already. Ask it for a new link if something else is missing.');
      const items = await chosen(actor, pointId, paths);
      await inTransaction(db, async (trx) => {
        const change = { state: 'asked', point_id: pointId, items: JSON.stringify(items), words, asked_at: clock.now() };
        if (!(await trx('asking').where({ id: row.id }).whereIn('state', ['sent', 'asked']).update(change)))
          throw new ApiError('NOT_NOW', undefined, 'The desk has decided meanwhile.');
        const detail = JSON.stringify({ words, count: items.length });
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'asking.ask', object: row.workload, detail });
      });
      await deps.events.emit('asking', { workloadId: row.workload_id });
      return {};
    },

    async ownRestore({ body: { pointId, paths, words, rule }, actor, req }) {
      if (await caseOf(req)) throw new ApiError('NOT_ALLOWED', undefined, 'The desk brings it back: ask for it.');
      const items = await chosen(actor, pointId, paths);
      const body = restoreOfAsked(pointId, items, { rule, reason: words });
      const now = clock.now();
      const runId = await startRestore(deps, body, actor, async (trx, run_id) => {
        const by = { made_by: actor.name, made_at: now, ends_at: now, decided_by: actor.name };
        const what = { workload_id: workloadOf(actor), point_id: pointId, items: JSON.stringify(items), words, asked_at: now };
        await trx('asking').insert({ ...by, ...what, state: 'agreed', run_id, tell_next: now });
      });
      return { runId };
    },

    async ownEnd({ actor, req, res }) {
      await endSession(req, res);
      await auditSignIn(deps, actor.display, 'own.end');
      return {};
    },
  };
}

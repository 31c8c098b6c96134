import { escapePath, formatBytes, formatMoment, joinPath, mailStoreFolder } from '@lithodex/core';
import type { Deps } from '../../acts/deps';
import { sendMail, wordsOf } from '../../acts/notices/deliver';
import { changesSince, lookForMissing } from '../../acts/recover/desk-look';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import { ApiError } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import { shownMailServer } from '../../records/notices/notice-rows';
import { leadsInside } from '../../records/recover/inside-path';
import { pathOf } from '../../records/recover/path-of';
import { readablePoint } from '../../records/recover/point-access';
import { pointRefs } from '../../records/targets/refs';

const askMs = 30_000;
/** Longer ones few mail servers take, bytes. */
const mostSent = 15 << 20;

/** The restore desk: nobody has to browse for what they can't name. */
export function deskHandlers(deps: Deps): Pick<Handlers, 'deskLook' | 'itemChanges' | 'mailStores' | 'sendItem'> {
  const { db, clock, secrets, config } = deps;
  return {
    deskLook: ({ body, actor }) => lookForMissing(deps, actor, body),
    itemChanges: ({ params, body, actor }) => changesSince(deps, actor, params.id, { ...body, path: pathOf(body.path) }),

    async mailStores({ params, query, actor }) {
      const path = pathOf(query.path);
      const point = await readablePoint(db, params.id, actor);
      const [ref] = await pointRefs(db, secrets, [point.id]);
      if (!ref) throw new ApiError('POINT_GONE');
      if (!leadsInside(point, path)) throw new ApiError('INVALID', [{ at: 'query.path' }], 'Mail stores are looked for inside disks.');
      const { stores, whole } = await deps.movers.ask({ ask: 'mailStores', point: ref, path }, askMs);
      const rows = stores.map((s) => ({ path: escapePath(joinPath(joinPath(path, s.path), mailStoreFolder)), layout: s.layout }));
      return { rows, whole };
    },

    async sendItem({ params, body: { path: escaped, to, words }, actor }) {
      const path = pathOf(escaped);
      const point = await readablePoint(db, params.id, actor);
      const [ref] = await pointRefs(db, secrets, [point.id]);
      if (!ref) throw new ApiError('POINT_GONE');
      if (!(await shownMailServer(db))) throw new ApiError('NOTICE_FAILED', undefined, 'Nobody has said yet how mail goes out.');
      const { name: workload } = await db('workload').where({ id: point.workload_id }).first<{ name: string }>('name');
      const detail = JSON.stringify({ path: escapePath(path), to, words });
      await inTransaction(db, (trx) => appendAudit(trx, clock.now(), { actor: actor.name, action: 'item.send', object: workload, detail }));
      const { name, type, data } = await deps.movers.ask({ ask: 'itemAttachment', point: ref, path, no: null }, askMs);
      const content = Buffer.from(data, 'base64');
      if (content.length > mostSent)
        throw new ApiError('TOO_LARGE', undefined, `It is ${formatBytes(content.length)}; at most ${formatBytes(mostSent)} go by mail.`);
      const draft = {
        subject: name.replace(/\s+/g, ' ').slice(0, 200),
        body: `${words}\n\nAs ${workload} had it ${formatMoment(point.moment, config.zone)}, ${config.zone}. Sent by ${actor.display}.\n`,
        data: {},
        attachment: null,
      };
      await sendMail(deps, to, draft, `item-${clock.now()}-${point.id}.${secrets.installation}`, {
        filename: name,
        content,
        contentType: type,
      }).catch((error: unknown) => {
        throw new ApiError('NOTICE_FAILED', undefined, `It did not go out. ${wordsOf(error)}`);
      });
      return {};
    },
  };
}

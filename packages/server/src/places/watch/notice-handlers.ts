import type { Message, Notice, NoticeBody } from '@lithodex/contract';
import type { Knex } from 'knex';
import { auditTest } from '../../base/http/audit-test';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError, found } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import { composeTrial } from '../../acts/notices/compose';
import { send, wordsOf } from '../../acts/notices/deliver';
import { columnsOf, keepMailServer, noticesIn, sealNoticeSecret, shownMailServer } from '../../records/notices/notice-rows';

type NoticeHandlers = Pick<
  Handlers,
  'listNotices' | 'addNotice' | 'changeNotice' | 'removeNotice' | 'tryNotice' | 'listMessages' | 'mailServer' | 'setMailServer'
>;
const shown = 100;

export function noticeHandlers(deps: Deps): NoticeHandlers {
  const { db, clock, secrets } = deps;

  async function check(trx: Knex.Transaction, body: NoticeBody, id: number | null): Promise<void> {
    const same = await trx('notice').where({ name: body.name }).first<{ id: number } | undefined>('id');
    if (same && same.id !== id) throw new ApiError('NAME_TAKEN', undefined, 'There is a notice of this name.');
    if (body.about.what === 'runs' && body.about.policyId !== null)
      found(await trx('policy').where({ id: body.about.policyId, ended: false }).first<{ id: number } | undefined>('id'));
  }

  const recorded = (trx: Knex.Transaction, actor: string, action: string, id: number | string, detail = '') =>
    appendAudit(trx, clock.now(), { actor, action, object: `notice ${id}`, detail });
  const said = ({ secret, ...body }: NoticeBody) => JSON.stringify({ ...body, ...(secret !== undefined && { secret: 'given' }) });

  return {
    async listNotices() {
      type Last = { notice_id: number; sent: number | null; waiting: number };
      const sums = await db('message')
        .groupBy('notice_id')
        .select<Last[]>('notice_id', db.raw('MAX(sent_at) AS sent, SUM(sent_at IS NULL AND next_try IS NOT NULL) AS waiting'));
      const last = new Map(sums.map((s) => [s.notice_id, s]));
      const notices = await noticesIn(db);
      const rows = await Promise.all(
        notices.map(async ({ id, name, about, way, paused, secret }): Promise<Notice> => {
          const newest = await db('message')
            .where({ notice_id: id })
            .where('tries', '>', 0)
            .orderBy('id', 'desc')
            .first<{ trouble: string | null } | undefined>('trouble');
          const sum = last.get(id);
          return {
            id,
            name,
            about,
            way,
            paused,
            signed: secret !== null,
            lastSent: sum?.sent ?? null,
            trouble: newest?.trouble ?? null,
            waiting: Number(sum?.waiting ?? 0),
          };
        }),
      );
      return { rows };
    },

    async addNotice({ body, actor }) {
      const id = await inTransaction(db, async (trx) => {
        await check(trx, body, null);
        const [made] = (await trx('notice').insert({ ...columnsOf(body), since: clock.now() })) as [number];
        if (body.secret !== undefined)
          await trx('notice')
            .where({ id: made })
            .update({ secret: sealNoticeSecret(secrets, made, body.secret) });
        await recorded(trx, actor.name, 'notice.add', made, said(body));
        return made;
      });
      return { id };
    },

    async changeNotice({ params: { id }, body, actor }) {
      await inTransaction(db, async (trx) => {
        const known = found((await noticesIn(trx)).find((n) => n.id === id));
        await check(trx, body, id);
        // a secret is for the address it was given for, and what happened during a pause is not told afterwards
        const elsewhere = JSON.stringify(known.way) !== JSON.stringify(body.way);
        const secret = body.secret !== undefined ? sealNoticeSecret(secrets, id, body.secret) : elsewhere ? null : known.secret;
        await trx('notice')
          .where({ id })
          .update({ ...columnsOf(body), secret, ...(known.paused && !body.paused && { since: clock.now() }) });
        await recorded(trx, actor.name, 'notice.change', id, said(body));
      });
      return {};
    },

    async removeNotice({ params: { id }, actor }) {
      await inTransaction(db, async (trx) => {
        if (!(await trx('notice').where({ id }).delete())) throw new ApiError('NOT_FOUND');
        await recorded(trx, actor.name, 'notice.remove', id);
      });
      return {};
    },

    async tryNotice({ params: { id }, actor }) {
      const notice = found((await noticesIn(db)).find((n) => n.id === id));
      await auditTest(deps, actor, 'notice.test', `notice ${id}`, JSON.stringify(notice.way));
      await send(deps, notice, composeTrial(notice.name), `trial-${clock.now()}.${secrets.installation}`).catch((error: unknown) => {
        throw new ApiError('NOTICE_FAILED', undefined, `It did not go out: ${wordsOf(error)}`);
      });
      return {};
    },

    async listMessages() {
      type Row = {
        id: number;
        notice_id: number;
        notice: string;
        subject: string;
        queued_at: number;
        sent_at: number | null;
        tries: number;
        next_try: number | null;
        trouble: string | null;
      };
      const rows = await db('message as m')
        .join('notice as n', 'n.id', 'm.notice_id')
        .orderBy('m.id', 'desc')
        .limit(shown)
        .select<Row[]>(
          'm.id',
          'm.notice_id',
          'n.name as notice',
          'm.subject',
          'm.queued_at',
          'm.sent_at',
          'm.tries',
          'm.next_try',
          'm.trouble',
        );
      return {
        rows: rows.map((r): Message => ({
          id: r.id,
          noticeId: r.notice_id,
          notice: r.notice,
          subject: r.subject,
          queuedAt: r.queued_at,
          sentAt: r.sent_at,
          tries: r.tries,
          nextTry: r.next_try,
          trouble: r.trouble,
        })),
      };
    },

    async mailServer() {
      return { server: await shownMailServer(db) };
    },

    async setMailServer({ body, actor }) {
      await inTransaction(db, async (trx) => {
        await keepMailServer(trx, secrets, body);
        const { password, ...rest } = body;
        await recorded(
          trx,
          actor.name,
          'mail-server.change',
          'mail',
          JSON.stringify({ ...rest, ...(password !== undefined && { password: 'given' }) }),
        );
      });
      return {};
    },
  };
}

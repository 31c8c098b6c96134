import type { AskedItem } from '@lithodex/contract';
import type { Knex } from 'knex';
import type { Deps } from '../../acts/deps';
import { sendMail, wordsOf } from '../../acts/notices/deliver';
import { newSecret } from '../../acts/people/issue-token';
import { restoreOfAsked } from '../../acts/recover/asked-restore';
import { composeLink } from '../../acts/recover/asking-words';
import { appendAudit } from '../../base/audit/trail';
import { fromJson } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import { tokenHash, within, type Actor } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { shownMailServer } from '../../records/notices/notice-rows';
import { askingRows, mailOf, shownAsking, type AskingRow } from '../../records/recover/asking-rows';
import { startRestore } from '../../acts/recover/start-restore';

type AskingHandlers = Pick<Handlers, 'askings' | 'sendAsking' | 'agreeToAsking' | 'refuseAsking' | 'withdrawAsking' | 'tellPerson'>;

const hourMs = 3_600_000;
/** So long the receipt can still be looked at. */
const receiptMs = 7 * 24 * hourMs;
const mostShown = 60;

/** Links to people who miss something, and what the desk says to what they ask for. */
export function askingHandlers(deps: Deps): AskingHandlers {
  const { db, clock } = deps;

  async function askingFor(actor: Actor, id: number): Promise<AskingRow> {
    const row = found(await askingRows(db).where('a.id', id).first<AskingRow | undefined>());
    within(actor, row.workload_id);
    return row;
  }

  /** What waits for the desk, as it was shown to whoever decides. Throws NOT_NOW where it was decided, or something else is asked for by now. */
  async function openFor(actor: Actor, id: number, askedAt: number): Promise<AskingRow> {
    const row = await askingFor(actor, id);
    if (row.state !== 'asked') throw new ApiError('NOT_NOW', undefined, 'Nothing is asked for here, or it was decided already.');
    if (row.asked_at !== askedAt)
      throw new ApiError('NOT_NOW', undefined, `${row.workload} has chosen anew meanwhile: look at it again. Nothing was changed.`);
    return row;
  }

  /** Changes how an asking stands, if it still stands as it was; others may have said something meanwhile. */
  async function decide(trx: Knex, row: AskingRow, change: Partial<Record<keyof AskingRow | 'tell_next', string | number>>): Promise<void> {
    const { id, state, asked_at } = row;
    if (!(await trx('asking').where({ id, state, asked_at }).update(change)))
      throw new ApiError('NOT_NOW', undefined, 'Somebody has said something else meanwhile. Nothing was changed.');
  }

  const note = (trx: Knex.Transaction, actor: Actor, action: string, row: Pick<AskingRow, 'workload'>, detail: string) =>
    appendAudit(trx, clock.now(), { actor: actor.name, action, object: row.workload, detail });

  return {
    async askings({ actor }) {
      const query = askingRows(db).limit(mostShown);
      if (actor.remit) void query.whereIn('a.workload_id', [...actor.remit]);
      return { rows: await Promise.all((await query).map((row) => shownAsking(db, row, clock.now()))) };
    },

    async sendAsking({ body: { workloadId, hours, note: words }, actor }) {
      within(actor, workloadId);
      const workload = found(
        await db('workload').where({ id: workloadId, kind: 'tenant' }).first<{ name: string; facts: unknown } | undefined>('name', 'facts'),
      );
      const to = mailOf(workload.facts);
      if (to === '') throw new ApiError('NOT_NOW', undefined, `${workload.name} has no mailbox to send a code to.`);
      const secret = newSecret('lxa');
      const now = clock.now();
      const until = now + hours * hourMs;
      const id = await inTransaction(db, async (trx) => {
        const row = { workload_id: workloadId, hash: tokenHash(secret), made_by: actor.name, made_at: now, ends_at: until, note: words };
        const [made] = await trx('asking').insert({ ...row, state: 'sent', items: '[]' });
        await note(trx, actor, 'asking.send', { workload: workload.name }, JSON.stringify({ hours }));
        return made!;
      });
      const path = `/own?link=${secret}`;
      await deps.events.emit('asking', { workloadId });
      return { id, path, until, trouble: await mailed(to, path, until, words, id) };
    },

    async agreeToAsking({ params: { id }, body: { askedAt, rule }, actor }) {
      const row = await openFor(actor, id, askedAt);
      const items = fromJson<AskedItem[]>(row.items);
      const reason = `Asked for by ${row.workload}: ${row.words}`;
      const body = restoreOfAsked(row.point_id!, items, { rule, reason, of: ` for ${row.workload}` });
      const runId = await startRestore(deps, body, actor, async (trx, run_id) => {
        const ends_at = Math.max(row.ends_at, clock.now() + receiptMs);
        await decide(trx, row, { state: 'agreed', run_id, decided_by: actor.name, tell_next: clock.now(), ends_at });
        await note(trx, actor, 'asking.agree', row, JSON.stringify({ run: run_id, count: items.length }));
      });
      await deps.events.emit('asking', { workloadId: row.workload_id });
      return { runId };
    },

    async refuseAsking({ params: { id }, body: { askedAt, why }, actor }) {
      const row = await openFor(actor, id, askedAt);
      await inTransaction(db, async (trx) => {
        await decide(trx, row, { state: 'refused', why, decided_by: actor.name, tell_next: clock.now() });
        await note(trx, actor, 'asking.refuse', row, why);
      });
      await deps.events.emit('asking', { workloadId: row.workload_id });
      return {};
    },

    async withdrawAsking({ params: { id }, actor }) {
      const row = await askingFor(actor, id);
      if (row.state !== 'sent' && row.state !== 'asked') throw new ApiError('NOT_NOW', undefined, 'It was decided already.');
      await inTransaction(db, async (trx) => {
        await decide(trx, row, { state: 'withdrawn', decided_by: actor.name });
        await trx('own_code').where({ asking_id: id }).delete();
        await note(trx, actor, 'asking.withdraw', row, '');
      });
      await deps.events.emit('asking', { workloadId: row.workload_id });
      return {};
    },

    async tellPerson({ body: { runId }, actor }) {
      const run = found(await db('run').where({ id: runId, kind: 'restore' }).first<{ person: string } | undefined>('person'));
      if (run.person !== actor.name) throw new ApiError('NOT_ALLOWED', undefined, 'Only who began a restore has people told of it.');
      const tasks = await db('task').where({ run_id: runId }).select<{ workload_id: number | null }[]>('workload_id');
      const workloadId = tasks.length === 1 ? tasks[0]!.workload_id : null;
      const workload =
        workloadId === null
          ? undefined
          : await db('workload').where({ id: workloadId, kind: 'tenant' }).first<{ name: string; facts: unknown } | undefined>();
      if (workloadId === null || !workload || mailOf(workload.facts) === '')
        throw new ApiError('NOT_NOW', undefined, 'There is nobody with a mailbox to be told.');
      within(actor, workloadId);
      if (!(await shownMailServer(db))) throw new ApiError('NOTICE_FAILED', undefined, 'Nobody has said yet how mail goes out.');
      const now = clock.now();
      await inTransaction(db, async (trx) => {
        if (await trx('asking').where({ run_id: runId }).first('id')) return;
        const by = { made_by: actor.name, made_at: now, ends_at: now, decided_by: actor.name };
        await trx('asking').insert({ ...by, workload_id: workloadId, state: 'agreed', items: '[]', run_id: runId, tell_next: now });
        await note(trx, actor, 'asking.tell', { workload: workload.name }, JSON.stringify({ run: runId }));
      });
      return {};
    },
  };

  /** Sends the link. Returns why that could not be; '' when it went out. */
  async function mailed(to: string, path: string, until: number, words: string, id: number): Promise<string> {
    const server = await shownMailServer(db);
    if (!server) return 'Nobody has said yet how mail goes out, so no code can be sent either.';
    if (server.links === '') return 'Nobody has said at what address people reach this, so the link was not sent: give it to them.';
    const link = `${server.links.replace(/\/$/, '')}${path}`;
    try {
      await sendMail(deps, to, composeLink(link, until, words, deps.config.zone), `link-${id}.${deps.secrets.installation}`);
      return '';
    } catch (error) {
      return wordsOf(error);
    }
  }
}

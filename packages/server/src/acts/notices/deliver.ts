import { createHmac } from 'node:crypto';
import { isIP } from 'node:net';
import { AddressRefused, addressOf, OutgoingClient } from '@lithodex/net';
import { createTransport } from 'nodemailer';
import { fromJson, fromJsonOrNull } from '../../base/db/json';
import type { Deps } from '../deps';
import type { Draft } from './compose';
import { mailServerIn, noticesIn, noticeSecret, type NoticeRow } from '../../records/notices/notice-rows';

const waitMs = 10_000;
/** How much of an answer to a webhook is read, in bytes; none of it is used. */
const answerLimit = 1 << 16;
const client = new OutgoingClient(1 << 20, waitMs);
const minuteMs = 60_000;
/** How long after each try that failed the next one comes, then every hour. */
const pausesMs = [1, 5, 15, 60].map((minutes) => minutes * minuteMs);
const giveUpMs = 24 * 60 * minuteMs;
const mostAtOnce = 20;

interface MessageRow {
  readonly id: number;
  readonly notice_id: number;
  readonly subject: string;
  readonly body: string;
  readonly data: unknown;
  readonly attachment: unknown;
  readonly queued_at: number;
  readonly tries: number;
}

/** Sends one message now. Throws what stood in the way, in words for a person. `id` lets a receiver tell that a message came twice. */
export async function send(deps: Deps, notice: NoticeRow, draft: Draft, id: string): Promise<void> {
  if (notice.way.by === 'webhook') return callHook(deps, notice, notice.way.url, draft, id);
  return sendMail(deps, notice.way.to, draft, id);
}

/** A file that goes with a mail. */
export interface MailFile {
  readonly filename: string;
  readonly content: Buffer;
  readonly contentType: string;
}

/** Sends one mail now. Throws what stood in the way; {@link wordsOf} says it. */
export async function sendMail(
  deps: Pick<Deps, 'db' | 'secrets'>,
  to: string | string[],
  draft: Draft,
  id: string,
  file?: MailFile,
): Promise<void> {
  const server = await mailServerIn(deps.db, deps.secrets);
  if (!server) throw new NotSaid('Nobody has said yet how mail goes out.');
  const transport = createTransport({
    // the address that was looked at is the one that is connected to
    host: await addressOf(server.host),
    ...(isIP(server.host) === 0 && { tls: { servername: server.host } }),
    port: server.port,
    secure: server.security === 'tls',
    requireTLS: server.security === 'starttls',
    ignoreTLS: server.security === 'none',
    ...(server.account && { auth: { user: server.account, pass: server.password } }),
    connectionTimeout: waitMs,
    greetingTimeout: waitMs,
    socketTimeout: waitMs,
    disableFileAccess: true,
    disableUrlAccess: true,
  });
  try {
    await transport.sendMail({
      from: { name: 'Lithodex', address: server.from },
      to,
      subject: draft.subject,
      text: draft.body,
      messageId: `<${id}@${server.from.split('@')[1]}>`,
      headers: { 'auto-submitted': 'auto-generated' },
      attachments: [
        ...(draft.attachment ? [{ filename: draft.attachment.name, content: draft.attachment.text, contentType: 'text/csv' }] : []),
        ...(file ? [file] : []),
      ],
    });
  } finally {
    transport.close();
  }
}

async function callHook(deps: Deps, notice: NoticeRow, url: string, draft: Draft, id: string): Promise<void> {
  const { subject, body: text, data, attachment } = draft;
  const body = JSON.stringify({ id, notice: notice.name, at: deps.clock.now(), subject, text, data, ...(attachment && { attachment }) });
  const secret = noticeSecret(deps.secrets, notice);
  const { statusCode, body: answer } = await client.request(new URL(url), {
    method: 'POST',
    signal: AbortSignal.timeout(waitMs),
    headers: {
      'content-type': 'application/json',
      ...(secret && { 'x-lithodex-signature': `sha256=${createHmac('sha256', secret).update(body).digest('hex')}` }),
    },
    body,
  });
  await answer.dump({ limit: answerLimit });
  if (statusCode < 200 || statusCode >= 300) throw new Refused();
}

/** What answered did not take the message. What it said is not passed on: it may be a stranger. */
class Refused extends Error {
  constructor() {
    super('The address answers, but does not take the message.');
  }
}

/** What kept a message from going out, in words of our own. */
const meaning: Readonly<Record<string, string>> = {
  ECONNREFUSED: 'Nothing answers at this address.',
  ECONNECTION: 'Nothing answers at this address.',
  ESOCKET: 'Nothing answers at this address.',
  ENOTFOUND: 'The name of the address is not known.',
  EDNS: 'The name of the address is not known.',
  ETIMEDOUT: 'The address does not answer in time.',
  EAUTH: 'The mail server does not let the account in.',
  ETLS: 'The mail server offers no encryption that fits.',
  EENVELOPE: 'The mail server does not take the sender or a receiver.',
  EMESSAGE: 'The mail server does not take the message.',
};

export function wordsOf(error: unknown): string {
  if (error instanceof Refused || error instanceof AddressRefused || error instanceof NotSaid) return error.message;
  const { code = '', name } = error as { code?: string; name?: string };
  if (name === 'TimeoutError') return meaning['ETIMEDOUT']!;
  return meaning[code] ?? 'The message was not taken.';
}

class NotSaid extends Error {}

/** Sends what is due; what fails is tried again for a day. The same message may arrive twice after a crash, under the same id. */
export async function deliverDue(deps: Deps): Promise<void> {
  const { db, clock, secrets } = deps;
  const notices = new Map((await noticesIn(db)).filter((n) => !n.paused).map((n) => [n.id, n]));
  const due = await db('message')
    .whereNotNull('next_try')
    .where('next_try', '<=', clock.now())
    .whereIn('notice_id', [...notices.keys()])
    .orderBy('next_try')
    .limit(mostAtOnce)
    .select<MessageRow[]>();
  for (const row of due) {
    const { subject, body } = row;
    const draft: Draft = {
      subject,
      body,
      data: fromJson<Draft['data']>(row.data),
      attachment: fromJsonOrNull<NonNullable<Draft['attachment']>>(row.attachment),
    };
    try {
      await send(deps, notices.get(row.notice_id)!, draft, `message-${row.id}.${secrets.installation}`);
      await db('message')
        .where({ id: row.id })
        .update({ sent_at: clock.now(), next_try: null, trouble: null, tries: row.tries + 1 });
    } catch (error) {
      const now = clock.now();
      const next = now + (pausesMs[row.tries] ?? pausesMs.at(-1)!);
      await db('message')
        .where({ id: row.id })
        .update({ tries: row.tries + 1, trouble: wordsOf(error), next_try: next - row.queued_at > giveUpMs ? null : next });
    }
  }
}

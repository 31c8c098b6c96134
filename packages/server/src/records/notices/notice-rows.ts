import type { MailServer, MailServerBody, NoticeAbout, NoticeBody, NoticeWay } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJson } from '../../base/db/json';
import type { Secrets } from '../../base/secrets';

/** Who is told of what, read from the database. */
export interface NoticeRow {
  readonly id: number;
  readonly name: string;
  readonly about: NoticeAbout;
  readonly way: NoticeWay;
  /** Of a webhook, sealed. */
  readonly secret: Buffer | null;
  readonly paused: boolean;
  /** What happened before is not told. */
  readonly since: number;
}

type Stored = Omit<NoticeRow, 'about' | 'way' | 'paused'> & { readonly about: unknown; readonly way: unknown; readonly paused: 0 | 1 };

export async function noticesIn(db: Knex): Promise<NoticeRow[]> {
  const rows = await db('notice').orderBy('name').select<Stored[]>();
  return rows.map((r) => ({
    ...r,
    about: fromJson<NoticeAbout>(r.about),
    way: fromJson<NoticeWay>(r.way),
    paused: r.paused === 1,
  }));
}

export const columnsOf = ({ name, about, way, paused }: NoticeBody) => ({
  name,
  about: JSON.stringify(about),
  way: JSON.stringify(way),
  paused,
});

const noticePurpose = (id: number) => `notice ${id}`;
export const sealNoticeSecret = (secrets: Secrets, id: number, secret: string): Buffer => secrets.seal(noticePurpose(id), secret);
export const noticeSecret = (secrets: Secrets, { id, secret }: NoticeRow): string | null =>
  secret && secrets.open(noticePurpose(id), secret);

const mailSetting = 'mail-server';

interface StoredServer extends Omit<MailServer, 'passwordKept'> {
  /** Sealed, as base64. */
  readonly secret: string | null;
}

async function storedServer(db: Knex): Promise<StoredServer | null> {
  const row = await db('setting').where({ name: mailSetting }).first<{ value: unknown } | undefined>('value');
  return row ? fromJson<StoredServer>(row.value) : null;
}

/** How mail goes out, as it may be shown. */
export async function shownMailServer(db: Knex): Promise<MailServer | null> {
  const stored = await storedServer(db);
  if (!stored) return null;
  const { secret, ...server } = stored;
  return { ...server, passwordKept: secret !== null };
}

/** How mail goes out, with the password; null where nobody has said it. */
export async function mailServerIn(db: Knex, secrets: Secrets): Promise<(Omit<MailServer, 'passwordKept'> & { password: string }) | null> {
  const stored = await storedServer(db);
  if (!stored) return null;
  const { secret, ...server } = stored;
  return { ...server, password: secret === null ? '' : secrets.open(mailSetting, Buffer.from(secret, 'base64')) };
}

/** Keeps how mail goes out; the password only goes on for the same server and account. */
export async function keepMailServer(trx: Knex.Transaction, secrets: Secrets, { password, ...server }: MailServerBody): Promise<void> {
  const known = await storedServer(trx);
  const same =
    known?.host === server.host && known.port === server.port && known.account === server.account && known.security === server.security;
  const sealed = password ? secrets.seal(mailSetting, password).toString('base64') : null;
  const secret = password === undefined && same ? known.secret : sealed;
  const value = JSON.stringify({ ...server, secret } satisfies StoredServer);
  await trx('setting').insert({ name: mailSetting, value }).onConflict('name').merge(['value']);
}

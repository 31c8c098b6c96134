import type { Request } from 'express';
import session from 'express-session';
import type { Knex } from 'knex';
import { fromJson } from '../db/json';

const lifetime = 12 * 3_600_000;

/** Sessions in the database, so that a restart of the server signs nobody out. */
export class SessionStore extends session.Store {
  constructor(private readonly db: Knex) {
    super();
  }

  private expiryOf(data: session.SessionData): number {
    return Date.now() + (data.cookie.maxAge ?? lifetime);
  }

  override get(sid: string, done: (error: unknown, data?: session.SessionData | null) => void): void {
    this.db('session')
      .where({ sid })
      .where('expires', '>', Date.now())
      .first<{ data: unknown } | undefined>('data')
      .then(
        (row) => {
          done(null, row ? { ...fromJson<session.SessionData>(row.data), stored: true } : null);
        },
        (error: unknown) => {
          done(error);
        },
      );
  }

  /** Keeps a session. One that was ended while a call of it was still open stays ended. */
  override set(sid: string, data: session.SessionData, done?: (error?: unknown) => void): void {
    const now = Date.now();
    const row = { data: JSON.stringify(data), expires: this.expiryOf(data), person_id: data.personId ?? null, seen_at: now };
    const made = { ...row, sid, created_at: now, address: data.address ?? '', agent: data.agent ?? '' };
    const keeping = data.stored
      ? this.db('session').where({ sid }).update(row)
      : this.db('session').insert(made).onConflict('sid').merge(Object.keys(row));
    keeping.then(() => done?.()).catch((error: unknown) => done?.(error));
  }

  override destroy(sid: string, done?: (error?: unknown) => void): void {
    this.db('session')
      .where({ sid })
      .delete()
      .then(() => done?.())
      .catch((error: unknown) => done?.(error));
  }

  /** Removes what has expired. */
  async sweep(): Promise<void> {
    await this.db('session').where('expires', '<', Date.now()).delete();
  }
}

/** Whether the session of a request is still there; true for one with a token. */
export async function sessionStands(db: Knex, req: Request): Promise<boolean> {
  if (!req.session.personId) return true;
  return (await db('session').where({ sid: req.sessionID }).first('sid')) !== undefined;
}

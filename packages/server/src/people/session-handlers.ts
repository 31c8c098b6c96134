import { randomBytes } from 'node:crypto';
import type { Me, Role } from '@lithodex/contract';
import type { Request } from 'express';
import { appendAudit } from '../audit/trail';
import { inTransaction } from '../db/open';
import type { Deps } from '../deps';
import { ApiError } from '../errors';
import { actorOfPerson, type Actor, type PersonRow } from '../http/access';
import type { Handlers } from '../http/bind-routes';
import { hashPassword, passwordFits } from './passwords';

type SessionHandlers = Pick<Handlers, 'signIn' | 'me' | 'signOut'>;

/** A hash to compare with when the name is unknown, so that a wrong name takes as long as a wrong password. */
const nobody = hashPassword(randomBytes(24).toString('hex'));

/** Signing in and out. */
export function sessionHandlers(deps: Deps): SessionHandlers {
  const { db, clock } = deps;
  const audit = (actor: string, action: string) =>
    inTransaction(db, (trx) => appendAudit(trx, clock.now(), { actor, action, object: 'sign-in' }));
  const meOf = (actor: Actor, req: Request): Me => ({
    id: actor.personId,
    name: actor.name,
    display: actor.display,
    role: actor.role as Role,
    remit: actor.remit ? [...actor.remit] : null,
    csrf: actor.by === 'session' ? (req.session.csrf ?? '') : '',
    zone: deps.config.zone,
    now: clock.now(),
  });
  return {
    async signIn({ body, req }) {
      type Row = PersonRow & { password_hash: string };
      const row = await db('person').where({ name: body.name, disabled: false }).first<Row | undefined>();
      const fits = await passwordFits(body.password, row?.password_hash ?? (await nobody));
      if (!row || !fits) {
        await audit(body.name, 'session.refused');
        throw new ApiError('SIGN_IN_REFUSED');
      }
      await new Promise<void>((resolve, reject) => {
        req.session.regenerate((error: unknown) => {
          if (error) reject(new Error('the session could not be renewed', { cause: error }));
          else resolve();
        });
      });
      req.session.personId = row.id;
      req.session.csrf = randomBytes(24).toString('base64url');
      await audit(row.name, 'session.start');
      return meOf(actorOfPerson(row), req);
    },

    async me({ actor, req }) {
      return meOf(actor, req);
    },

    async signOut({ req, res, actor }) {
      await new Promise<void>((resolve) => {
        req.session.destroy(() => {
          resolve();
        });
      });
      res.clearCookie('lithodex');
      await audit(actor.name, 'session.end');
      return {};
    },
  };
}

import { randomBytes } from 'node:crypto';
import type { Body } from '@lithodex/contract';
import type { Request } from 'express';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError } from '../../base/errors';
import { tokenHash } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { endAccess } from '../../acts/people/change-person';
import { nobodyYet } from '../../acts/people/first-person';
import { hashPassword, passwordFits } from '../../records/people/passwords';
import { counterOf, takeRecovery } from '../../records/people/codes';
import { organisationOf } from '../../records/people/organisation-settings';
import { rulesOf } from '../../records/people/rules';
import { askPasskey, passkeyFits } from '../../records/people/passkeys';
import { refuseWeak } from '../../acts/people/password-strength';
import { auditSignIn, begin, endSession, goOn, halfSignedIn, meOf, placeOf, type Account } from '../../acts/people/steps';
import { noteFailure, refuseTooMany } from '../../records/people/tries';

type SessionHandlers = Pick<
  Handlers,
  'signInWays' | 'signIn' | 'showSecond' | 'askPasskey' | 'choosePassword' | 'resetPassword' | 'me' | 'signOut' | 'confirm'
>;

/** A hash to compare with when the name is unknown, so that a wrong name takes as long as a wrong password. */
const nobody = hashPassword(randomBytes(24).toString('hex'));

/** Whether somebody has shown a second factor of theirs. */
async function secondFits(deps: Deps, req: Request, account: Account, shown: Body<'showSecond'>): Promise<boolean> {
  switch (shown.by) {
    case 'code': {
      if (!account.code_secret) return false;
      const counter = counterOf(deps.secrets, account.id, account.code_secret, shown.code, account.code_counter);
      // of two who show the same code, one is let in
      return (
        counter !== undefined &&
        (await deps.db('person').where({ id: account.id }).where('code_counter', '<', counter).update({ code_counter: counter })) === 1
      );
    }
    case 'recovery':
      return inTransaction(deps.db, (trx) => takeRecovery(trx, account.id, shown.code));
    case 'passkey':
      return passkeyFits(deps.db, req, account.id, shown.response);
  }
}

/** Signing in and out. */
export function sessionHandlers(deps: Deps): SessionHandlers {
  const { db } = deps;

  async function failed(name: string, req: Request, action: string): Promise<void> {
    await noteFailure(db, name, placeOf(req));
    await auditSignIn(deps, name, action, placeOf(req));
  }

  return {
    async signInWays() {
      return {
        organisation: (await organisationOf(db))?.name ?? null,
        selfService: (await rulesOf(db)).selfService,
        nobodyYet: await nobodyYet(db),
      };
    },

    async signIn({ body, req }) {
      await refuseTooMany(db, body.name, placeOf(req));
      const row = await db('person').where({ name: body.name, disabled: false }).first<Account | undefined>();
      // who signs in by the organisation has no password here
      const known = row !== undefined && row.password_hash !== '';
      const stored = known ? row.password_hash : await nobody;
      const fits = await passwordFits(body.password, stored);
      if (!known || !fits) {
        await failed(body.name, req, 'session.refused');
        throw new ApiError('SIGN_IN_REFUSED');
      }
      return begin(deps, req, row);
    },

    async showSecond({ body, req }) {
      const account = await halfSignedIn(deps, req);
      await refuseTooMany(db, account.name, placeOf(req));
      if (!(await secondFits(deps, req, account, body))) {
        await failed(account.name, req, 'session.secondRefused');
        throw new ApiError('SECOND_REFUSED');
      }
      req.session.half = { ...req.session.half!, second: true };
      if (body.by === 'recovery') await auditSignIn(deps, account.name, 'recovery.used');
      return goOn(deps, req, account);
    },

    async askPasskey({ req }) {
      const id = req.session.personId ?? (await halfSignedIn(deps, req)).id;
      return { ...(await askPasskey(db, req, id)) };
    },

    async choosePassword({ body, req }) {
      const account = await halfSignedIn(deps, req);
      const step = await goOn(deps, req, account);
      if (!('step' in step) || step.step !== 'password') throw new ApiError('NOT_NOW');
      await refuseWeak(body.password, account.name, account.display);
      if (await passwordFits(body.password, account.password_hash))
        throw new ApiError('PASSWORD_WEAK', undefined, 'This is the password you had. Choose another one.');
      await db('person')
        .where({ id: account.id })
        .update({ password_hash: await hashPassword(body.password), must_change: false });
      await auditSignIn(deps, account.name, 'password.change');
      return goOn(deps, req, { ...account, must_change: 0 });
    },

    async resetPassword({ body: { code, password }, req }) {
      type Link = { person_id: number; name: string; display: string; second: 0 | 1 };
      const link = () =>
        db('reset_link as l')
          .join('person as p', 'p.id', 'l.person_id')
          .where({ 'l.hash': tokenHash(code), 'p.disabled': false })
          .where('l.until', '>', Date.now());
      const found = await link().first<Link | undefined>('l.person_id', 'l.second', 'p.name', 'p.display');
      if (!found) {
        await failed('a link', req, 'session.refused');
        throw new ApiError('CODE_REFUSED');
      }
      await refuseWeak(password, found.name, found.display);
      const hash = await hashPassword(password);
      await inTransaction(db, async (trx) => {
        // of two who come with the same link, one gets in
        if (
          !(await trx('reset_link')
            .where({ hash: tokenHash(code) })
            .delete())
        )
          throw new ApiError('CODE_REFUSED');
        await trx('person')
          .where({ id: found.person_id })
          .update({ password_hash: hash, must_change: false, ...(found.second && { code_secret: null, recovery: null }) });
        if (found.second) await trx('passkey').where({ person_id: found.person_id }).delete();
        await trx('sign_in_failure').where({ name: found.name }).delete();
        await endAccess(deps, trx, found.person_id, { tokens: false });
      });
      await auditSignIn(deps, found.name, 'password.reset');
      return {};
    },

    async me({ actor, req }) {
      return meOf(deps, actor, req);
    },

    async signOut({ req, res, actor }) {
      await endSession(req, res);
      await auditSignIn(deps, actor.name, 'session.end');
      return {};
    },

    async confirm({ body, req, actor }) {
      if (actor.by !== 'session') return {};
      const account = await db('person').where({ id: actor.personId }).first<Account>();
      await refuseTooMany(db, account.name, placeOf(req));
      const fits =
        body.by === 'password'
          ? account.password_hash !== '' && (await passwordFits(body.password, account.password_hash))
          : await secondFits(deps, req, account, body);
      if (!fits) {
        await failed(account.name, req, 'session.confirmRefused');
        throw new ApiError('SECOND_REFUSED');
      }
      req.session.confirmedAt = Date.now();
      return {};
    },
  };
}

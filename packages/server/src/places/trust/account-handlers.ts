import type { OwnSession } from '@lithodex/contract';
import { createHash } from 'node:crypto';
import type { Request } from 'express';
import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import { fromJsonOrNull } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError } from '../../base/errors';
import type { Actor } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { keyOfPerson } from '../../base/http/open-calls';
import { hashPassword, passwordFits } from '../../records/people/passwords';
import { confirmedForMs } from '../../base/http/confirmed';
import { counterOf, offerOf, renewRecovery } from '../../records/people/codes';
import { offerPasskey, takePasskey } from '../../records/people/passkeys';
import { refuseWeak } from '../../acts/people/password-strength';
import { rulesOf } from '../../records/people/rules';
import { goOn, halfSignedIn, placeOf, waysOf, type Account } from '../../acts/people/steps';
import { noteFailure, refuseTooMany } from '../../records/people/tries';

type AccountHandlers = Pick<
  Handlers,
  | 'ownAccount'
  | 'changePassword'
  | 'offerCode'
  | 'takeCode'
  | 'dropCode'
  | 'newRecoveryCodes'
  | 'offerPasskey'
  | 'takePasskey'
  | 'dropPasskey'
  | 'endOtherSessions'
>;

/** Names a session without giving it away. */
const shownId = (sid: string) => createHash('sha256').update(sid).digest('hex').slice(0, 16);

/** How somebody signs in, as they see and change it themselves. */
export function accountHandlers(deps: Deps): AccountHandlers {
  const { db, clock } = deps;

  /** The account of who is signed in. Tokens have none to change. Throws NOT_ALLOWED. */
  async function own(actor: Actor): Promise<Account> {
    if (actor.by !== 'session')
      throw new ApiError('NOT_ALLOWED', undefined, 'Only a person who is signed in has an account to look after.');
    return await db('person').where({ id: actor.personId }).first<Account>();
  }

  /** Who sets up a second factor: signed in, having shown lately who they are, or being asked for it while they sign in. */
  async function whoEnrols(req: Request, actor: Actor | undefined): Promise<{ account: Account; signingIn: boolean }> {
    if (actor?.by === 'session') {
      if (req.headers['x-lithodex-csrf'] !== req.session.csrf) throw new ApiError('CSRF_MISSING');
      if (Date.now() - (req.session.confirmedAt ?? 0) > confirmedForMs) throw new ApiError('CONFIRM_FIRST');
      return { account: await own(actor), signingIn: false };
    }
    const account = await halfSignedIn(deps, req);
    // who has a factor shows it; only who has none sets one up on the way in
    if ((await waysOf(deps, account)).length) throw new ApiError('NOT_SIGNED_IN');
    return { account, signingIn: true };
  }

  const audit = (trx: Knex.Transaction, account: Account, action: string, detail = '') =>
    appendAudit(trx, clock.now(), { actor: account.name, action, object: `person ${account.name}`, detail });

  const enrolled = async (req: Request, account: Account, signingIn: boolean) => {
    if (!signingIn) return null;
    req.session.half = { ...req.session.half!, second: true };
    return goOn(deps, req, await db('person').where({ id: account.id }).first<Account>());
  };

  return {
    async ownAccount({ actor, req }) {
      const account = await own(actor);
      type Key = { id: number; name: string; created_at: number; used_at: number | null };
      const passkeys = await db('passkey')
        .where({ person_id: account.id })
        .orderBy('id')
        .select<Key[]>('id', 'name', 'created_at', 'used_at');
      type Row = { sid: string; address: string; agent: string; created_at: number | null; seen_at: number | null };
      const sessions = await db('session')
        .where({ person_id: account.id })
        .where('expires', '>', Date.now())
        .orderBy('seen_at', 'desc')
        .limit(50)
        .select<Row[]>('sid', 'address', 'agent', 'created_at', 'seen_at');
      return {
        organisation: account.subject !== null,
        code: account.code_secret !== null,
        recoveryLeft: (fromJsonOrNull<string[]>(account.recovery) ?? []).length,
        passkeys: passkeys.map((k) => ({ id: k.id, name: k.name, createdAt: k.created_at, usedAt: k.used_at })),
        needed: (await rulesOf(db)).secondFor.includes(account.role),
        sessions: sessions.map((s): OwnSession => ({
          id: shownId(s.sid),
          own: s.sid === req.sessionID,
          address: s.address,
          agent: s.agent,
          since: s.created_at,
          seen: s.seen_at,
        })),
      };
    },

    async changePassword({ body, actor, req }) {
      const account = await own(actor);
      if (account.subject !== null) throw new ApiError('NOT_NOW', undefined, 'You sign in by the organisation, which keeps your password.');
      await refuseTooMany(db, account.name, placeOf(req));
      if (!(await passwordFits(body.old, account.password_hash))) {
        await noteFailure(db, account.name, placeOf(req));
        throw new ApiError('SECOND_REFUSED', undefined, 'The password you have now is another one. Nothing was changed.');
      }
      await refuseWeak(body.password, account.name, account.display);
      const hash = await hashPassword(body.password);
      await inTransaction(db, async (trx) => {
        await trx('person').where({ id: account.id }).update({ password_hash: hash, must_change: false });
        await trx('session').where({ person_id: account.id }).whereNot({ sid: req.sessionID }).delete();
        await audit(trx, account, 'password.change');
      });
      return {};
    },

    async offerCode({ req, actor }) {
      const { account } = await whoEnrols(req, actor);
      const { sealed, offer } = await offerOf(deps.secrets, account.id, account.name);
      req.session.offer = sealed;
      return offer;
    },

    async takeCode({ body, req, actor }) {
      const { account, signingIn } = await whoEnrols(req, actor);
      const { offer } = req.session;
      const counter = offer && counterOf(deps.secrets, account.id, offer, body.code, 0);
      if (!offer || !counter)
        throw new ApiError(
          'SECOND_REFUSED',
          undefined,
          'This code does not fit. Look whether the clock of the device is right. Nothing was changed.',
        );
      delete req.session.offer;
      const recovery = await inTransaction(db, async (trx) => {
        await trx('person').where({ id: account.id }).update({ code_secret: offer, code_counter: counter });
        await audit(trx, account, 'code.add');
        return renewRecovery(trx, account.id);
      });
      return { recovery, signedIn: await enrolled(req, account, signingIn) };
    },

    async dropCode({ actor }) {
      const account = await own(actor);
      await inTransaction(db, async (trx) => {
        await trx('person').where({ id: account.id }).update({ code_secret: null });
        await keepNeeded(trx, account);
        await audit(trx, account, 'code.remove');
      });
      return {};
    },

    async newRecoveryCodes({ actor }) {
      const account = await own(actor);
      if (!(await waysOf(deps, account)).length)
        throw new ApiError('NOT_NOW', undefined, 'There is no second factor that they would stand in for.');
      return inTransaction(db, async (trx) => {
        await audit(trx, account, 'recovery.renew');
        return { recovery: await renewRecovery(trx, account.id) };
      });
    },

    async offerPasskey({ req, actor }) {
      const { account } = await whoEnrols(req, actor);
      return { ...(await offerPasskey(db, req, account)) };
    },

    async takePasskey({ body, req, actor }) {
      const { account, signingIn } = await whoEnrols(req, actor);
      await takePasskey(db, req, account.id, body.name, body.response);
      await inTransaction(db, (trx) => audit(trx, account, 'passkey.add', body.name));
      return { signedIn: await enrolled(req, account, signingIn) };
    },

    async dropPasskey({ params, actor }) {
      const account = await own(actor);
      await inTransaction(db, async (trx) => {
        if (!(await trx('passkey').where({ id: params.id, person_id: account.id }).delete())) throw new ApiError('NOT_FOUND');
        await keepNeeded(trx, account);
        await audit(trx, account, 'passkey.remove');
      });
      return {};
    },

    async endOtherSessions({ actor, req }) {
      const account = await own(actor);
      await inTransaction(db, async (trx) => {
        await trx('session').where({ person_id: account.id }).whereNot({ sid: req.sessionID }).delete();
        await audit(trx, account, 'session.endOthers');
      });
      deps.calls.end(keyOfPerson(account.id));
      return {};
    },
  };
}

/** Throws NOT_NOW where a role needs a second factor and none is left. */
async function keepNeeded(trx: Knex.Transaction, account: Account): Promise<void> {
  const { code_secret } = await trx('person').where({ id: account.id }).first<{ code_secret: string | null }>('code_secret');
  const passkey = await trx('passkey').where({ person_id: account.id }).first<{ id: number } | undefined>('id');
  if (!code_secret && !passkey && (await rulesOf(trx)).secondFor.includes(account.role))
    throw new ApiError('NOT_NOW', undefined, 'Your role needs a second factor. Set up another one first.');
}

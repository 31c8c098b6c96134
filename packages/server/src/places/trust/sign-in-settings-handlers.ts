import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError, found } from '../../base/errors';
import { tokenHash, type Actor } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { changedBy } from '../../acts/people/change-person';
import { newSecret } from '../../acts/people/issue-token';
import { cameForOneself, comeBack, configured, goThere } from '../../acts/people/organisation';
import { changedOrganisation, dropOrganisation, keepOrganisation, shownOrganisation } from '../../records/people/organisation-settings';
import { keepRules, rulesOf } from '../../records/people/rules';
import type { Account } from '../../acts/people/steps';

type SettingsHandlers = Pick<
  Handlers,
  'signInSettings' | 'setSignInRules' | 'setOrganisation' | 'dropOrganisation' | 'goToOrganisation' | 'backFromOrganisation' | 'resetPerson'
>;

const linkMs = 86_400_000;

/** What signing in takes, the way by the organisation, and links for those who forgot. */
export function signInSettingsHandlers(deps: Deps): SettingsHandlers {
  const { db, clock } = deps;
  const audited = (actor: Actor, action: string, detail: string, act: (trx: Parameters<typeof appendAudit>[0]) => Promise<void>) =>
    inTransaction(db, async (trx) => {
      await act(trx);
      await appendAudit(trx, clock.now(), { actor: actor.name, action, object: 'sign-in', detail });
    });

  return {
    async signInSettings() {
      return { ...(await rulesOf(db)), organisation: await shownOrganisation(db) };
    },

    async setSignInRules({ body, actor }) {
      await audited(actor, 'signIn.rules', JSON.stringify(body), (trx) => keepRules(trx, body));
      return {};
    },

    async setOrganisation({ body, actor }) {
      const { clientSecret: _, ...shown } = body;
      const organisation = await changedOrganisation(db, deps.secrets, body);
      await configured(deps, organisation);
      await audited(actor, 'signIn.organisation', JSON.stringify(shown), (trx) => keepOrganisation(trx, organisation));
      return {};
    },

    async dropOrganisation({ actor }) {
      await audited(actor, 'signIn.noOrganisation', '', (trx) => dropOrganisation(trx));
      return {};
    },

    async goToOrganisation({ req, res }) {
      await goThere(deps, req, res);
    },

    async backFromOrganisation({ req, res }) {
      let to: string;
      try {
        to = await comeBack(deps, req, res);
      } catch (error) {
        if (!(error instanceof ApiError)) throw error;
        to = `${cameForOneself(deps, req) ? '/own' : '/sign-in'}?problem=${encodeURIComponent(error.message)}`;
      }
      // the cookie of the session goes along only from a page of our own, so one lies between
      const escaped = to.replace(/&/g, '&amp;').replace(/"/g, '&quot;').replace(/</g, '&lt;');
      res
        .set('Cache-Control', 'no-store')
        .type('html')
        .send(`<!doctype html><title>Lithodex</title><meta http-equiv="refresh" content="0;url=${escaped}"><a href="${escaped}">Go on</a>`);
    },

    async resetPerson({ params: { id }, body: { second }, actor }) {
      const account = found(await db('person').where({ id, disabled: false }).first<Account | undefined>());
      if (account.subject !== null)
        throw new ApiError('NOT_NOW', undefined, 'This person signs in by the organisation, which keeps their password.');
      const code = newSecret('lxr');
      const until = Date.now() + linkMs;
      await inTransaction(db, async (trx) => {
        await trx('reset_link').where({ person_id: id }).delete();
        await trx('reset_link').insert({ hash: tokenHash(code), person_id: id, second, until, made_by: actor.name });
        await changedBy(trx, id, actor);
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'person.reset',
          object: `person ${account.name}`,
          detail: second ? 'with the second factor' : '',
        });
      });
      return { path: `/reset?code=${code}`, until };
    },
  };
}

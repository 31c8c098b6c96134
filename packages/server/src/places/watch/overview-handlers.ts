import type { InstallationBody, InstallationRow } from '@lithodex/contract';
import { askInstallation, InstallationTrouble, stateOf, type InstallationSaid } from '../../acts/overview/ask-installation';
import { accessOf, lookAtInstallations, sealedToken, type KeptInstallation } from '../../acts/overview/installations';
import type { Deps } from '../../acts/deps';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import type { Actor } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';

type OverviewHandlers = Pick<Handlers, 'overview' | 'addInstallation' | 'changeInstallation' | 'removeInstallation'>;
type Own = Pick<Handlers, 'watch' | 'estate' | 'listTargets'>;

const detailOf = ({ name, url }: InstallationBody) => JSON.stringify({ name, url });

/** This installation and others, in one view. `own`: how this one answers about itself. */
export function overviewHandlers(deps: Deps, own: Own): OverviewHandlers {
  const { db, clock, secrets } = deps;
  const rowOf = async (id: number) => found(await db('installation').where({ id }).first<KeptInstallation | undefined>());

  /** Its token: as given, or as kept for the address it was given for. */
  const tokenOf = async (id: number | null, { token, url, authority }: InstallationBody): Promise<string> => {
    if (token !== null) return token;
    const kept = id === null ? undefined : await rowOf(id);
    if (kept?.url !== url || kept.authority !== authority)
      throw new ApiError('INVALID', [{ at: 'body.token' }], 'Say the token for this address. Nothing was changed.');
    return accessOf(secrets, kept).token;
  };

  /** Throws NAME_TAKEN, CONNECTION_FAULTY. */
  const mustAnswer = async (body: InstallationBody, token: string, id: number | null): Promise<InstallationSaid> => {
    const taken = await db('installation').where({ name: body.name }).first<{ id: number } | undefined>('id');
    if (taken && taken.id !== id) throw new ApiError('NAME_TAKEN');
    try {
      return await askInstallation({ url: body.url, authority: body.authority, token }, clock.now());
    } catch (error) {
      if (error instanceof InstallationTrouble) throw new ApiError('CONNECTION_FAULTY', undefined, `${error.message} It was not saved.`);
      throw error;
    }
  };

  const keep = async (id: number | null, body: InstallationBody, actor: Actor): Promise<number> => {
    const token = await tokenOf(id, body);
    const { state, clockAhead } = await mustAnswer(body, token, id);
    const now = clock.now();
    const { name, url, authority } = body;
    const columns = {
      name,
      url,
      authority,
      state: JSON.stringify(state),
      answered_at: now,
      tried_at: now,
      trouble: '',
      clock_ahead: Math.round(clockAhead),
    };
    return inTransaction(db, async (trx) => {
      const own = id ?? ((await trx('installation').insert({ ...columns, secret: Buffer.alloc(0) })) as [number])[0];
      await trx('installation')
        .where({ id: own })
        .update({ ...columns, secret: sealedToken(secrets, own, token) });
      const action = id === null ? 'installation.add' : 'installation.change';
      await appendAudit(trx, now, { actor: actor.name, action, object: name, detail: detailOf(body) });
      return own;
    });
  };

  return {
    async overview({ actor }) {
      const asked = { actor, params: {}, query: { nights: 1, by: 'policy' }, body: undefined } as unknown as Parameters<Own['watch']>[0];
      const estateAsked = { ...asked, query: { offset: 0, limit: 1 } } as unknown as Parameters<Own['estate']>[0];
      const answers = {
        watch: await own.watch(asked),
        estate: await own.estate(estateAsked),
        targets: await own.listTargets(asked as unknown as Parameters<Own['listTargets']>[0]),
      };
      const here: InstallationRow = {
        id: null,
        name: 'this one',
        url: '',
        authority: null,
        state: stateOf(answers),
        at: clock.now(),
        trouble: '',
        clockAhead: 0,
      };
      return { rows: [here, ...(await lookAtInstallations(deps))] };
    },

    addInstallation: async ({ body, actor }) => ({ id: await keep(null, body, actor) }),

    async changeInstallation({ params, body, actor }) {
      await rowOf(params.id);
      await keep(params.id, body, actor);
      return {};
    },

    async removeInstallation({ params, actor }) {
      const row = await rowOf(params.id);
      await inTransaction(db, async (trx) => {
        await trx('installation').where({ id: row.id }).delete();
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'installation.remove', object: row.name });
      });
      return {};
    },
  };
}

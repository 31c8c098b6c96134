import os from 'node:os';
import { moverLanguage } from '@lithodex/contract';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction, rowsOf } from '../../base/db/open';
import { areHidden, firstSteps, hide } from '../../acts/estate/first-steps';
import { makeFirst } from '../../acts/people/first-person';
import { begin, placeOf, type Account } from '../../acts/people/steps';
import { noteFailure, refuseTooMany } from '../../records/people/tries';
import type { Deps } from '../../acts/deps';
import { ApiError } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import { version } from '../../base/version';

type FirstHandlers = Pick<Handlers, 'makeFirstPerson' | 'firstSteps' | 'hideFirstSteps' | 'about'>;

/** A new installation: its first administrator, what it still needs; and what is running here. */
export function firstHandlers(deps: Deps): FirstHandlers {
  const { db, clock, config } = deps;
  return {
    async makeFirstPerson({ body, req }) {
      await refuseTooMany(db, 'the first', placeOf(req));
      try {
        return await begin(deps, req, await makeFirst(deps, body));
      } catch (error) {
        if (error instanceof ApiError && error.code === 'CODE_REFUSED') await noteFailure(db, 'the first', placeOf(req));
        throw error;
      }
    },

    async firstSteps({ actor }) {
      const account = actor.by === 'session' ? await db('person').where({ id: actor.personId }).first<Account | undefined>() : undefined;
      return { steps: await firstSteps(deps, account), hidden: await areHidden(db) };
    },

    async hideFirstSteps({ body, actor }) {
      await inTransaction(db, async (trx) => {
        await hide(trx, body.hidden);
        const action = body.hidden ? 'firstSteps.hide' : 'firstSteps.show';
        await appendAudit(trx, clock.now(), { actor: actor.name, action, object: 'installation' });
      });
      return {};
    },

    async about() {
      const [database] = await rowsOf<{ v: string }>(db.raw('SELECT VERSION() AS v'));
      const newest = await db('migration').orderBy('id', 'desc').first<{ name: string } | undefined>('name');
      const outdated = deps.movers.outdated();
      return {
        version,
        schema: newest?.name ?? '',
        database: database?.v ?? '',
        node: process.versions.node,
        system: `${os.type()} ${os.release()}`,
        moverLanguage,
        movers: [...deps.movers.present().map((name) => ({ name, current: true })), ...outdated.map((name) => ({ name, current: false }))],
        zone: config.zone,
        encrypted: config.tls !== undefined,
      };
    },
  };
}

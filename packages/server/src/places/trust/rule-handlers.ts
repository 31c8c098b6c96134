import type { RuleSource } from '@lithodex/contract';
import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import type { Deps } from '../../acts/deps';
import { ruleFiles, ruleSetNow, scanSettings } from '../../records/trust/scan-rules';

type RuleHandlers = Pick<Handlers, 'listRules' | 'addRules' | 'changeRules' | 'removeRules' | 'tryRules'>;

const tryMs = 20_000;
const mostFiles = 500;

/** The files of rules that points are scanned by. */
export function ruleHandlers(deps: Deps): RuleHandlers {
  const { db, clock } = deps;

  /** Throws INVALID where a mover says that rules are wrong, on their own or together with those in force. */
  async function mustHold(file: RuleSource, besides: number | undefined): Promise<void> {
    const others = (await ruleFiles(db)).filter((f) => f.on && f.id !== besides).map(({ name, text }) => ({ name, text }));
    const tried = await deps.movers.ask({ ask: 'tryRules', rules: [...others, file], sample: '' }, tryMs);
    if (tried.problem) {
      const where = tried.problem.line ? ` in line ${tried.problem.line}` : '';
      throw new ApiError(
        'INVALID',
        { text: tried.problem.message },
        `These rules do not hold${where}: ${tried.problem.message}. Nothing was changed.`,
      );
    }
  }

  async function mustBeFree(trx: Knex.Transaction, name: string, besides = 0): Promise<void> {
    if (await trx('scan_rule').where({ name }).whereNot({ id: besides }).first('id')) throw new ApiError('NAME_TAKEN');
  }

  const audited = async (trx: Knex.Transaction, actor: string, action: string, object: string, detail = '') => {
    await ruleSetNow(trx, clock.now(), (await scanSettings(trx)).scanner);
    await appendAudit(trx, clock.now(), { actor, action, object, detail });
  };

  return {
    async listRules() {
      return { rows: await ruleFiles(db) };
    },

    async addRules({ body, actor }) {
      const { name, text, on } = body;
      await mustHold({ name, text }, undefined);
      return inTransaction(db, async (trx) => {
        await mustBeFree(trx, name);
        const { n } = await trx('scan_rule').count({ n: '*' }).first<{ n: number }>();
        if (n >= mostFiles) throw new ApiError('NOT_NOW', undefined, `There are ${mostFiles} files of rules; remove some first.`);
        const [id] = await trx('scan_rule').insert({ name, text, is_on: on, changed_at: clock.now(), changed_by: actor.name });
        await audited(trx, actor.name, 'scanRules.add', name);
        return { id: id! };
      });
    },

    async changeRules({ params, body, actor }) {
      const { name, text, on } = body;
      const { id } = params;
      const was = found((await ruleFiles(db)).find((f) => f.id === id));
      if (on && (was.text !== text || !was.on)) await mustHold({ name, text }, id);
      await inTransaction(db, async (trx) => {
        await mustBeFree(trx, name, id);
        const version = was.text === text ? was.version : was.version + 1;
        await trx('scan_rule').where({ id }).update({ name, text, is_on: on, version, changed_at: clock.now(), changed_by: actor.name });
        const detail = was.text !== text ? `version ${version}` : was.on !== on ? (on ? 'on' : 'off') : '';
        await audited(trx, actor.name, 'scanRules.change', name, detail);
      });
      return {};
    },

    async removeRules({ params, actor }) {
      await inTransaction(db, async (trx) => {
        const { name } = found(await trx('scan_rule').where({ id: params.id }).first<{ name: string } | undefined>('name'));
        await trx('scan_rule').where({ id: params.id }).delete();
        await audited(trx, actor.name, 'scanRules.remove', name);
      });
      return {};
    },

    async tryRules({ body }) {
      return deps.movers.ask({ ask: 'tryRules', rules: [{ name: 'tried', text: body.text }], sample: body.sample }, tryMs);
    },
  };
}

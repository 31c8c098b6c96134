import { SettingsRecord, type SettingStep } from '@lithodex/contract';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError, found } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import { refOf, type TargetRow } from '../../records/targets/target-rows';
import { stepsOf } from '../../acts/settings/take-settings';

const askMs = 15_000;

/** The settings kept on targets: looked at, taken over, or left. */
export function settingsHandlers(deps: Deps): Pick<Handlers, 'keptSettings' | 'takeSettings' | 'leaveSettings'> {
  const { db, clock } = deps;

  async function kept(targetId: string): Promise<{ at: number; record: SettingsRecord } | undefined> {
    const target = found(await db('target').where({ id: targetId }).first<TargetRow | undefined>());
    const answer = await deps.movers.ask({ ask: 'keptSettings', target: refOf(deps.secrets, target) }, askMs);
    if (!answer) return undefined;
    const record = SettingsRecord.safeParse(JSON.parse(answer.text));
    if (!record.success) throw new ApiError('NOT_NOW', undefined, 'The settings kept there were written by another version.');
    return { at: answer.at, record: record.data };
  }

  const written = (targetId: string) => ({ id: targetId, settings_held: true });

  return {
    async keptSettings({ params }) {
      const answer = await kept(params.id);
      if (!answer) return { at: null, auditRows: 0, auditHash: '', steps: [] };
      const { at, record } = answer;
      const steps: SettingStep[] = [];
      await inTransaction(db, async (trx) => {
        for await (const { kind, name, effect, why } of stepsOf(trx, deps.secrets, clock.now(), params.id, record))
          steps.push({ kind, name, effect, why });
      });
      return { at, auditRows: record.auditHead.rows, auditHash: record.auditHead.hash, steps };
    },

    async takeSettings({ params, body, actor }) {
      const answer = await kept(params.id);
      if (answer?.at !== body.at)
        throw new ApiError('NOT_NOW', undefined, 'The settings there are not those you looked at. Nothing was changed.');
      const counts = await inTransaction(db, async (trx) => {
        let [added, changed] = [0, 0];
        for await (const step of stepsOf(trx, deps.secrets, clock.now(), params.id, answer.record)) {
          if (!step.act) continue;
          await step.act();
          if (step.effect === 'add') added++;
          else changed++;
        }
        await trx('target').where(written(params.id)).update({ settings_held: false });
        const detail = `${added} added, ${changed} changed; trail then ${answer.record.auditHead.rows} rows, ${answer.record.auditHead.hash}`;
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'settings.take', object: `target ${params.id}`, detail });
        return { added, changed };
      });
      await deps.events.emit('estate');
      await deps.events.emit('policy');
      return counts;
    },

    async leaveSettings({ params, actor }) {
      await inTransaction(db, async (trx) => {
        if (!(await trx('target').where(written(params.id)).update({ settings_held: false })))
          throw new ApiError('NOT_NOW', undefined, 'Nobody has to decide about the settings of this target.');
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'settings.leave', object: `target ${params.id}` });
      });
      await deps.events.emit('estate');
      return {};
    },
  };
}

import type { InsideAccount, InsideTest } from '@lithodex/contract';
import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import { purposeOfInside } from '../../records/systems/inside-accounts';
import { platformRef, type PlatformRow } from '../../records/systems/platform-rows';

const testMs = 30_000;
interface MachineRow extends Pick<PlatformRow, 'address' | 'secret'> {
  readonly id: number;
  readonly name: string;
  readonly outer_id: string;
  readonly source_id: number;
}

export function insideHandlers(deps: Deps): Pick<Handlers, 'setInside' | 'forgetInside'> {
  const { db, clock, secrets } = deps;

  const test = async (m: MachineRow, account: InsideAccount) => {
    const platform = platformRef(secrets, { ...m, id: m.source_id });
    return deps.movers.ask({ ask: 'insideTest', platform, machine: m.outer_id, account }, testMs);
  };

  const keep = (trx: Knex.Transaction, workloadId: number, account: InsideAccount) => {
    const row = { name: account.name, secret: secrets.seal(purposeOfInside(workloadId), JSON.stringify(account)), tested_at: clock.now() };
    return trx('inside_account')
      .insert({ workload_id: workloadId, ...row })
      .onConflict()
      .merge(row);
  };

  return {
    async setInside({ body: { workloads, account }, actor }) {
      const ids = [...new Set(workloads)];
      const machines = await db('workload as w')
        .join('source as s', 's.id', 'w.source_id')
        .whereIn('w.id', ids)
        .whereNotNull('w.outer_id')
        .whereNotNull('s.secret')
        .whereNull('w.gone_at')
        .orderBy('w.name')
        .select<MachineRow[]>('w.id', 'w.name', 'w.outer_id', 's.id as source_id', 's.address', 's.secret');
      if (machines.length !== ids.length)
        throw new ApiError('INVALID', [{ at: 'body.workloads' }], 'Only machines that are there have an inside. Nothing was changed.');
      const rows: (InsideTest & { workload: { id: number; name: string } })[] = [];
      // one after the other: each has its own time to answer
      for (const m of machines) rows.push({ workload: { id: m.id, name: m.name }, ...(await test(m, account)) });
      const letIn = rows.filter((r) => r.ok).map((r) => r.workload.id);
      await inTransaction(db, async (trx) => {
        for (const id of letIn) {
          await keep(trx, id, account);
          await appendAudit(trx, clock.now(), { actor: actor.name, action: 'inside.set', object: `workload ${id}`, detail: account.name });
        }
      });
      if (letIn.length) await deps.events.emit('estate');
      return { rows };
    },

    async forgetInside({ params: { id }, actor }) {
      await inTransaction(db, async (trx) => {
        const gone = await trx('inside_account').where({ workload_id: id }).delete();
        if (!gone) throw new ApiError('NOT_FOUND');
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'inside.forget', object: `workload ${id}`, detail: '' });
      });
      await deps.events.emit('estate');
      return {};
    },
  };
}

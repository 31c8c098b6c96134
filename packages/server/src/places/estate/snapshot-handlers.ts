import type { MachineFacts } from '@lithodex/contract';
import { appendAudit } from '../../base/audit/trail';
import { fromJson } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import { within, type Actor } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import type { Deps } from '../../acts/deps';
import { readPlatform } from '../../acts/estate/read-platform';
import { queueRun, snapshotTask } from '../../acts/runs/queue';
import { platformRef, type PlatformRow } from '../../records/systems/platform-rows';
import { snapshotRows, type SnapshotRow } from '../../records/systems/snapshot-rows';

type SnapshotHandlers = Pick<Handlers, 'takeSnapshot' | 'removeSnapshot' | 'copySnapshot'>;

/** Storages copy nothing when they keep their disks, but some take their time. */
const askMs = 120_000;

/** Snapshots that storages of platforms keep. */
export function snapshotHandlers(deps: Deps): SnapshotHandlers {
  const { db, clock } = deps;

  const platformOf = async (sourceId: number): Promise<PlatformRow> => {
    const row = await db('source').where({ id: sourceId, kind: 'platform' }).whereNotNull('secret').first<PlatformRow | undefined>();
    if (!row) throw new ApiError('NOT_NOW', undefined, 'The platform is not connected here.');
    return row;
  };

  const rowOf = async (id: string, actor: Actor): Promise<SnapshotRow> => {
    const row = found((await snapshotRows(db, [id]))[0]);
    within(actor, row.workload_id);
    if (row.gone_at !== null) throw new ApiError('POINT_GONE');
    return row;
  };

  const audit = (actor: Actor, action: string, object: string, detail: string) =>
    inTransaction(db, (trx) => appendAudit(trx, clock.now(), { actor: actor.name, action, object, detail }));

  return {
    async takeSnapshot({ params, body, actor }) {
      type Row = { id: number; name: string; source_id: number; gone_at: number | null; facts: unknown };
      const machine = found(await db('workload').where({ id: params.id, kind: 'machine' }).first<Row | undefined>());
      within(actor, machine.id);
      if (machine.gone_at !== null) throw new ApiError('NOT_NOW', undefined, 'The machine is gone from its platform.');
      const platform = await platformOf(machine.source_id);
      const storages = [...new Set(fromJson<MachineFacts>(machine.facts).disks.map((d) => d.storage))].filter(Boolean);
      if (!storages.length) throw new ApiError('NOT_NOW', undefined, 'None of its disks lies on a storage.');
      await audit(actor, 'snapshot.take', `workload ${machine.id}`, `${storages.join(', ')} ${body.name}`);
      await deps.movers.ask({ ask: 'takeSnapshots', platform: platformRef(deps.secrets, platform), storages, name: body.name }, askMs);
      await readPlatform(deps, platform);
      return { storages };
    },

    async removeSnapshot({ params, actor }) {
      const row = await rowOf(params.id, actor);
      const platform = await platformOf(row.source_id);
      await audit(actor, 'snapshot.remove', `source ${row.source_id}`, `${row.storage} ${row.outer_id} ${row.name}`);
      const at = { storage: row.storage, id: row.outer_id };
      await deps.movers.ask({ ask: 'removeSnapshot', platform: platformRef(deps.secrets, platform), at }, askMs);
      await readPlatform(deps, platform);
      return {};
    },

    async copySnapshot({ params, body, actor }) {
      const row = await rowOf(params.id, actor);
      await platformOf(row.source_id);
      const { targetId, days } = body;
      if (!(await db('target').where({ id: targetId }).first<{ id: string } | undefined>('id')))
        throw new ApiError('INVALID', [{ at: 'body.targetId' }], 'There is no such target.');
      const { name } = await db('workload').where({ id: row.workload_id }).first<{ name: string }>('name');
      const runId = await inTransaction(db, async (trx) => {
        const task = await snapshotTask(trx, row.workload_id, targetId, row.id);
        if (!task) throw new ApiError('NOT_NOW', undefined, 'The snapshot stands on that target already, or is being copied there.');
        const id = await queueRun(trx, clock.now(), {
          kind: 'backup',
          pointKind: 'full',
          startedBy: 'onDemand',
          name: `${name}, from the snapshot on ${row.storage}`,
          person: actor.name,
          reason: body.reason,
          keepOwn: days === null ? { by: 'hand' } : { by: 'days', days },
          tasks: [task],
        });
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'snapshot.copy',
          object: `workload ${row.workload_id}`,
          detail: `run ${id}`,
        });
        return id;
      });
      deps.movers.workAppeared();
      await deps.events.emit('run', { runId, workloadId: row.workload_id });
      return { runId };
    },
  };
}

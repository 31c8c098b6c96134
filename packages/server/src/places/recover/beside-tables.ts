import { escapePath, objectNameOf } from '@lithodex/core';
import type { BesideTable } from '@lithodex/contract';
import type { TableBeside } from '@lithodex/kinds';
import { appendAudit } from '../../base/audit/trail';
import { fromJson } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { found } from '../../base/errors';
import { within, type Actor } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import type { RunRecord } from '../../records/runs/run-rows';
import { visibleRuns, whereTaskVisible } from '../../records/runs/visible-runs';
import { databaseOfRow, type SystemRow } from '../../records/systems/system-rows';
import type { RestorePlan } from '../../records/runs/planned-restore';

type BesideHandlers = Pick<Handlers, 'besideTables' | 'besideRows' | 'swapBeside'>;

/** A comparison or a swap that takes longer is given up by the mover itself. */
const askMs = 60_000;
const mostTables = 1000;

interface PutBeside extends BesideTable {
  readonly sourceId: number;
  readonly workloadId: number;
  readonly pair: TableBeside;
}

/** The table that an item holds, where it is a table. */
function tableAt(path: string): { readonly database: string; readonly table: string } | undefined {
  const [folder, below, item, ...rest] = path.split('/');
  if (!folder || below !== 'tables' || !item?.endsWith('.sql') || rest.length) return undefined;
  return { database: objectNameOf(folder), table: objectNameOf(item.slice(0, -'.sql'.length)) };
}

export function besideHandlers(deps: Deps): BesideHandlers {
  const { db, clock } = deps;

  /** What a restore put beside tables that were there, as its log says. */
  async function putBeside(runId: number, actor: Actor): Promise<PutBeside[]> {
    const run = found(await visibleRuns(db, actor).where('r.id', runId).where('r.kind', 'restore').first<RunRecord | undefined>('r.*'));
    const q = db('log_line as l').join('task as t', 't.id', 'l.task_id').where({ 'l.run_id': run.id, 'l.code': 'BESIDE' });
    whereTaskVisible(q, actor, run);
    const rows = await q
      .orderBy('l.seq')
      .limit(mostTables)
      .select<{ path: Buffer; work: unknown; task_id: string; workload_id: number }[]>('l.path', 't.work', 'l.task_id', 't.workload_id');
    return rows.flatMap(({ path, work, task_id, workload_id }) => {
      const { to } = fromJson<RestorePlan>(work);
      const item = path.toString('latin1');
      const at = tableAt(item);
      if (to.kind !== 'database' || !at) return [];
      const { databases, suffix } = to.destination;
      const database = databases.find((d) => d.from === at.database)?.to ?? at.database;
      const pair = { database, table: at.table, suffix };
      return [
        {
          taskId: task_id,
          path: escapePath(item),
          database,
          table: at.table,
          suffix,
          sourceId: to.sourceId,
          workloadId: workload_id,
          pair,
        },
      ];
    });
  }

  /** One of these, with the server it stands on. */
  async function oneOf(runId: number, { task, path }: { readonly task: string; readonly path: string }, actor: Actor) {
    const one = found((await putBeside(runId, actor)).find((t) => t.taskId === task && t.path === path));
    // what a clerk restored once is read by them as long as it is theirs
    within(actor, one.workloadId);
    const row = found(
      await db('source').where({ id: one.sourceId, kind: 'database' }).whereNotNull('secret').first<SystemRow | undefined>(),
    );
    return { ...one, server: row.name, readBy: row.read_by, from: databaseOfRow(deps.secrets, row) };
  }

  return {
    async besideTables({ params, actor }) {
      const tables = await putBeside(params.id, actor);
      return { rows: tables.map(({ taskId, path, database, table, suffix }) => ({ taskId, path, database, table, suffix })) };
    },

    async besideRows({ params, query, actor }) {
      const { from, pair, server, readBy } = await oneOf(params.id, query, actor);
      const compared = await deps.movers.ask({ ask: 'compareRows', from, pair }, askMs, readBy);
      await inTransaction(db, (trx) =>
        appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'rows.compare',
          object: `run ${params.id}`,
          detail: JSON.stringify(pair),
        }),
      );
      return { server, ...compared };
    },

    async swapBeside({ params, body, actor }) {
      const { from, pair, server, readBy } = await oneOf(params.id, body, actor);
      await inTransaction(db, (trx) =>
        appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'table.swap',
          object: `run ${params.id}`,
          detail: JSON.stringify({ ...pair, server, reason: body.reason }),
        }),
      );
      return deps.movers.ask({ ask: 'swapTables', from, pair }, askMs, readBy);
    },
  };
}

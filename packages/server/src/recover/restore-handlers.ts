import { DateTime } from 'luxon';
import type { DownloadWork, RestoreBody, RestoreWork } from '@lithodex/contract';
import type { DatabaseTo, FilesTo, MachineTo } from '@lithodex/kinds';
import { appendAudit } from '../audit/trail';
import { fromJson } from '../db/json';
import { inTransaction } from '../db/open';
import type { Deps } from '../deps';
import { ApiError, found } from '../errors';
import type { Handlers } from '../http/bind-routes';
import { queueRun } from '../runs/queue';
import { databasePlan, isDatabaseRestore } from './database-restores';
import { isMachineRestore, machinePicks, machinePlans } from './machine-restores';
import type { ResolvedPick } from './resolve-picks';
import { planRestore, refuseStops } from './restore-plan';

type RestoreHandlers = Pick<Handlers, 'planRestore' | 'startRestore' | 'download'>;

const ruleWords = {
  leave: 'what exists is left',
  replace: 'what exists is replaced',
  replaceIfOlder: 'what exists is replaced if it is older',
  beside: 'restored items are put beside what exists',
};

function rulesText(body: RestoreBody, machines: boolean): string {
  const { destination } = body;
  if (destination.to === 'download') return `download as ${destination.format}`;
  if (destination.to === 'server') return databaseRules(body);
  if (destination.to === 'platform') return `${body.trial ? 'trial without writing, ' : ''}to ${destination.host}, as new machines`;
  if (machines)
    return `${body.trial ? 'trial without writing, ' : ''}to the machines they were taken of; what differs on their disks is overwritten`;
  const where =
    destination.to === 'original'
      ? 'to the original place'
      : `to ${destination.folder}, ${destination.keepPath ? 'keeping' : 'without'} the original path`;
  return `${body.trial ? 'trial without writing, ' : ''}${where}; ${ruleWords[body.rule]}`;
}

const ruleWordsOfTables = { ...ruleWords, leave: 'tables that exist are left', replace: 'tables that exist are replaced' };

function databaseRules({ destination, rule, trial }: RestoreBody): string {
  const where = destination.to === 'server' ? 'to a database server' : 'to the server they were taken of';
  return `${trial ? 'trial without writing, ' : ''}${where}; ${ruleWordsOfTables[rule]}`;
}

/** An item that is wanted; where its point is is looked up when the task is claimed. */
export interface PlannedPick {
  readonly pointId: string;
  readonly path: string;
  readonly to: string;
}

interface Prefers {
  readonly readFrom: string | null;
}

/** Where a restore writes, without what opens it. */
export type PlannedTo =
  FilesTo | (Omit<MachineTo, 'platform'> & { readonly platformId: number }) | (Omit<DatabaseTo, 'server'> & { readonly sourceId: number });

/** What a task keeps; where its points are is looked up when it is claimed, so that no key of a target lies in the queue. */
export type DownloadPlan = Omit<DownloadWork, 'picks'> & Prefers & { readonly picks: readonly PlannedPick[] };
export type RestorePlan = Omit<RestoreWork, 'picks' | 'to'> &
  Prefers & { readonly picks: readonly (PlannedPick & { readonly base: string })[]; readonly to: PlannedTo };

function planOf(deps: Deps, body: RestoreBody, picks: readonly ResolvedPick[]): RestorePlan | DownloadPlan {
  const expected = { items: picks.reduce((a, p) => a + p.items, 0), bytes: picks.reduce((a, p) => a + p.size, 0) };
  if (body.destination.to === 'download')
    return {
      type: 'download',
      format: body.destination.format,
      readFrom: body.readFrom,
      picks: picks.map((p) => ({ pointId: p.point.id, path: p.path, to: p.to })),
      expected,
    };
  const stamp = DateTime.fromMillis(Math.max(...picks.map((p) => p.point.moment)), { zone: deps.config.zone }).toFormat('yyyy-MM-dd HHmm');
  return {
    type: 'restore',
    picks: picks.map((p) => ({ pointId: p.point.id, path: p.path, to: p.to, base: p.base })),
    readFrom: body.readFrom,
    to: { kind: 'files', rule: body.rule, stamp },
    trial: body.trial,
    expected,
  };
}

export function restoreHandlers(deps: Deps): RestoreHandlers {
  const { db, clock } = deps;
  return {
    planRestore: async ({ body, actor }) => (await planRestore(deps, body, actor)).plan,

    async startRestore({ body, actor }) {
      const { plan, picks } = await planRestore(deps, body, actor);
      refuseStops(plan);
      const workloads = new Set(picks.map((p) => p.point.workload_id));
      const machines = isMachineRestore(body, picks) ? await machinePlans(deps, body, await machinePicks(deps, picks)) : undefined;
      const databases = isDatabaseRestore(body, picks) ? await databasePlan(deps, body, picks) : undefined;
      const rules = databases ? databaseRules(body) : rulesText(body, machines !== undefined);
      const kind = body.destination.to === 'download' ? 'download' : 'restore';
      const runId = await inTransaction(db, async (trx) => {
        const id = await queueRun(trx, clock.now(), {
          kind,
          startedBy: 'hand',
          name: body.name,
          person: actor.name,
          reason: body.reason,
          rules,
          tasks: machines?.map((m) => ({ workloadId: m.workloadId, seriesNo: null, type: 'restore' as const, work: m.plan })) ?? [
            {
              workloadId: workloads.size === 1 ? [...workloads][0]! : null,
              seriesNo: null,
              type: kind,
              work: databases ?? planOf(deps, body, picks),
            },
          ],
        });
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: body.trial ? 'restore.trial' : `${kind}.start`,
          object: `run ${id}`,
          detail: JSON.stringify({ reason: body.reason, rules, picks: body.picks.slice(0, 50), count: picks.length }),
        });
        return id;
      });
      deps.movers.workAppeared();
      await deps.events.emit('run', { runId });
      return { runId };
    },

    async download({ params, actor, res }) {
      const run = found(
        await db('run').where({ id: params.id, kind: 'download' }).first<{ id: number; person: string; name: string } | undefined>(),
      );
      if (run.person !== actor.name) throw new ApiError('NOT_ALLOWED', undefined, 'Only the person who asked for a download may fetch it.');
      const task = found(await db('task').where({ run_id: run.id }).first<{ id: string; state: string; work: unknown } | undefined>());
      if (task.state !== 'waiting' && task.state !== 'running')
        throw new ApiError('NOT_NOW', undefined, 'The download has ended. Prepare it again.');
      const work = fromJson<DownloadPlan>(task.work);
      await inTransaction(db, (trx) =>
        appendAudit(trx, clock.now(), { actor: actor.name, action: 'download.fetch', object: `run ${run.id}` }),
      );
      const one = Buffer.from(work.picks[0]!.to, 'latin1').toString();
      const base =
        work.format === 'file' ? one : work.format === 'qcow2' ? `${one.replace(/\.raw$/, '')}.qcow2` : `${run.name}.${work.format}`;
      res.attachment(base.replace(/[\r\n"/\\]/g, '_'));
      res.type('application/octet-stream').setHeader('cache-control', 'no-store');
      res.setHeader('content-encoding', 'identity');
      await new Promise<void>((resolve) => {
        const off = deps.calls.onEnd(actor.key, () => res.destroy());
        res.on('close', () => {
          off();
          resolve();
        });
        deps.downloads.offer(task.id, res);
      });
    },
  };
}

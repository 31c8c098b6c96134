import { escapePath, formatExact } from '@lithodex/core';
import type { Knex } from 'knex';
import { fromJson } from '../../base/db/json';
import type { RunMachinePlan } from '../../records/runs/planned-restore';
import type { LogLine, Query, RunDetail, RunState } from '@lithodex/contract';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError, found } from '../../base/errors';
import { numberAt } from '../../base/http/cursor';
import type { Actor } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { limitOfAll, setLimitOfAll } from '../../records/movers/admission';
import { stopRun } from '../../acts/runs/stop-run';
import { retry } from '../../acts/runs/retry';
import { runRates } from '../../records/runs/run-rates';
import { tasksOf, toRunRow, toTaskRow, type RunRecord } from '../../records/runs/run-rows';
import { visibleRun, visibleRuns, visibleTasks, whereTaskVisible } from '../../records/runs/visible-runs';

type RunHandlers = Pick<
  Handlers,
  'listRuns' | 'getRun' | 'runRates' | 'runLog' | 'runLogFile' | 'stopRun' | 'retryRun' | 'limits' | 'limitAll'
>;

const sorts: Record<string, string> = { id: 'r.id', started: 'r.started_at', queued: 'r.queued_at', state: 'r.state', name: 'r.name' };

/** Ends of tasks after which a person may try again. */
const unfinished: readonly RunState[] = ['failed', 'stopped', 'partsMissing', 'cutOff', 'notStarted'];

interface LogRow {
  readonly seq: number;
  readonly at: number;
  readonly task_id: string;
  readonly workload: string | null;
  readonly level: LogLine['level'];
  readonly code: string;
  readonly path: Buffer;
  readonly message: string;
}

/** So many workloads a text in a filter may stand for, and so many of their newest runs are looked at. */
const mostNamed = 1000;
const mostFound = 10_000;

/** Text that can't begin a line of its own, whatever names and messages hold. */
const oneLine = (text: string) => text.replace(/[\p{Cc}\u2028\u2029]+/gu, ' ');

/** Where runs are started again that can not be tried again from here. */
const startedWhere: Partial<Record<RunRecord['kind'], string>> = {
  restore: 'Start the restore again from its restore sheet.',
  download: 'Prepare the download again from its restore sheet.',
  trial: 'Try the policy again from its page.',
  prune: 'Start it again from the page of its target.',
  verify: 'Start it again from the page of its target.',
  adopt: 'Start it again from the page of its target.',
};

const isRetried = (run: RunRecord): run is RunRecord & { readonly kind: 'backup' | 'copy' } => run.kind === 'backup' || run.kind === 'copy';

/** What such a machine wrote would be lost: how it ends is said where it is listed. One whose mover does not answer any more can be given up. */
async function refuseWhereMachineRuns(trx: Knex, runId: number, present: readonly string[]): Promise<void> {
  const begun = await trx('task')
    .where({ run_id: runId, type: 'runMachine' })
    .whereIn('state', ['waiting', 'running'])
    .whereNotNull('started_at')
    .select<{ state: string; work: unknown }[]>('state', 'work');
  const isHeld = ({ state, work }: { state: string; work: unknown }) =>
    state === 'running' || present.includes(fromJson<RunMachinePlan>(work).heldBy ?? '');
  if (begun.some(isHeld))
    throw new ApiError('NOT_NOW', undefined, 'A machine runs from the store. Drop it, or let it leave, where such machines are listed.');
}

export function runHandlers(deps: Deps): RunHandlers {
  const { db, clock } = deps;
  const afterOf = async (id: number) =>
    (await db('run').where({ id }).first<RunDetail['after'] | undefined>('id', 'name', 'state')) ?? null;

  const runOf = async (id: number, actor: Actor) =>
    found(await visibleRuns(db, actor).where('r.id', id).first<RunRecord | undefined>('r.*'));

  /** The newest runs that are named like a text, or are over workloads that are. */
  const runsLike = async (like: string): Promise<number[]> => {
    // the index of names alone: the rows are many times larger
    const byName = await db
      .from(db.raw('run FORCE INDEX (run_name)'))
      .where('name', 'like', like)
      .orderBy('id', 'desc')
      .limit(mostFound)
      .select<{ id: number }[]>('id');
    const named = await db('workload').where('name', 'like', like).limit(mostNamed).select<{ id: number }[]>('id');
    const over = await db('task')
      .whereIn(
        'workload_id',
        named.map((w) => w.id),
      )
      .orderBy('queued_at', 'desc')
      .limit(mostFound)
      .distinct<{ run_id: number }[]>('run_id', 'queued_at');
    return [...new Set([...byName.map((r) => r.id), ...over.map((t) => t.run_id)])];
  };

  async function filtered(query: Query<'listRuns'>, actor: Actor) {
    const q = visibleRuns(db, actor);
    if (query.kinds) void q.whereIn('r.kind', query.kinds);
    if (query.states) void q.whereIn('r.state', query.states);
    if (query.from !== undefined) void q.where('r.queued_at', '>=', query.from);
    if (query.to !== undefined) void q.where('r.queued_at', '<=', query.to);
    if (query.policy !== undefined) void q.where('r.policy_id', query.policy);
    if (query.ids) void q.whereIn('r.id', query.ids.split(',').map(Number));
    if (query.workload !== undefined) void q.whereIn('r.id', db('task').where({ workload_id: query.workload }).select('run_id'));
    if (query.source !== undefined)
      void q.whereIn(
        'r.id',
        db('task as t').join('workload as w', 'w.id', 't.workload_id').where('w.source_id', query.source).select('t.run_id'),
      );
    if (query.expired === 'no') void q.whereNotExists(db('point').whereRaw('point.run_id = r.id').where({ state: 'expired' }));
    if (query.q) {
      const like = `%${query.q.replace(/[\\%_]/g, '\\$&')}%`;
      void q.whereIn('r.id', await runsLike(like));
    }
    return { q };
  }

  function logOf(run: RunRecord, query: Query<'runLog'>, actor: Actor) {
    const q = db('log_line as l')
      .leftJoin('task as t', 't.id', 'l.task_id')
      .leftJoin('workload as w', 'w.id', 't.workload_id')
      .where('l.run_id', run.id);
    whereTaskVisible(q, actor, run);
    if (query.level) void q.where('l.level', query.level);
    if (query.task) void q.where('l.task_id', query.task);
    if (query.q) {
      const like = `%${query.q.replace(/[\\%_]/g, '\\$&')}%`;
      void q.where((w) => {
        void w
          .where('l.message', 'like', like)
          .orWhereRaw('l.path LIKE ?', [Buffer.from(like)])
          .orWhere('l.code', 'like', like);
      });
    }
    return q;
  }

  const columns = ['l.seq', 'l.at', 'l.task_id', 'w.name as workload', 'l.level', 'l.code', 'l.path', 'l.message'];
  const toLine = (r: LogRow): LogLine => ({
    seq: r.seq,
    at: r.at,
    taskId: r.task_id,
    workload: r.workload ?? '',
    level: r.level,
    code: r.code,
    path: escapePath(r.path.toString('latin1')),
    message: r.message,
  });

  return {
    async limits() {
      return { tasks: await limitOfAll(db) };
    },

    async limitAll({ body, actor }) {
      await inTransaction(db, async (trx) => {
        await setLimitOfAll(trx, body.tasks);
        const detail = JSON.stringify(body);
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'limits.change', object: 'installation', detail });
      });
      deps.movers.workAppeared();
      return {};
    },

    async listRuns({ query, actor }) {
      const offset = numberAt(query.cursor, 0);
      const [key, direction] = query.sort?.startsWith('-')
        ? [query.sort.slice(1), 'desc']
        : [query.sort ?? 'id', query.sort ? 'asc' : 'desc'];
      const column = Object.hasOwn(sorts, key) ? sorts[key] : undefined;
      if (!column) throw new ApiError('INVALID', [{ at: 'query.sort' }], `Runs can be sorted by ${Object.keys(sorts).join(', ')}.`);
      const wanted = await filtered(query, actor);
      const runs = await wanted.q
        .clone()
        .orderBy([
          { column, order: direction },
          { column: 'r.id', order: 'desc' },
        ])
        .offset(offset)
        .limit(query.limit + 1)
        .select<RunRecord[]>('r.*');
      const total = await wanted.q.clone().count({ n: '*' }).first<{ n: number }>();
      const shown = runs.slice(0, query.limit).map((r) => visibleRun(actor, r));
      const tasks = await tasksOf(
        db,
        shown.filter((r) => r.sums === null).map((r) => r.id),
      );
      const names = new Map((await db('policy').select<{ id: number; name: string }[]>('id', 'name')).map((p) => [p.id, p.name]));
      return {
        rows: shown.map((r) =>
          toRunRow(
            r,
            visibleTasks(
              actor,
              r,
              tasks.filter((t) => t.run_id === r.id),
            ),
            names.get(r.policy_id ?? 0),
          ),
        ),
        next: runs.length > query.limit ? String(offset + query.limit) : null,
        total: Number(total?.n ?? 0),
      };
    },

    async getRun({ params, actor }): Promise<RunDetail> {
      const run = visibleRun(actor, await runOf(params.id, actor));
      const tasks = visibleTasks(actor, run, await tasksOf(db, [run.id]));
      const policy =
        run.policy_id === null ? undefined : await db('policy').where({ id: run.policy_id }).first<{ name: string } | undefined>();
      type P = { id: string; builds: number | null };
      const points = await db('point as p')
        .leftJoin('point as b', 'b.id', 'p.builds_on')
        .where('p.run_id', run.id)
        .where('p.state', 'visible')
        .select<P[]>('p.id', 'b.moment as builds');
      const pointOf = new Map(points.map((p) => [p.id, p]));
      return {
        ...toRunRow(run, tasks, policy?.name),
        tasks: tasks.map((t) => toTaskRow(t, pointOf.has(t.id) ? t.id : null, pointOf.get(t.id)?.builds ?? null)),
        earlier: await earlierRuns(deps, run, actor),
        reason: run.reason,
        rules: run.rules,
        after: run.after_run === null ? null : await afterOf(run.after_run),
        downloadReady: run.kind === 'download' && (run.state === 'waiting' || run.state === 'running'),
      };
    },

    async runRates({ params, actor }) {
      const run = await runOf(params.id, actor);
      return runRates(db, run, clock.now(), (q) => {
        whereTaskVisible(q, actor, run);
      });
    },

    async runLog({ params, query, actor }) {
      const run = await runOf(params.id, actor);
      const after = numberAt(query.cursor, 0);
      const rows = await logOf(run, query, actor)
        .where('l.seq', '>', after)
        .orderBy('l.seq')
        .limit(query.limit + 1)
        .select<LogRow[]>(columns);
      const total = await logOf(run, query, actor).count({ n: '*' }).first<{ n: number }>();
      const shown = rows.slice(0, query.limit);
      return { rows: shown.map(toLine), next: rows.length > query.limit ? String(shown.at(-1)!.seq) : null, total: Number(total?.n ?? 0) };
    },

    async runLogFile({ params, actor, res }) {
      const run = await runOf(params.id, actor);
      await inTransaction(db, (trx) =>
        appendAudit(trx, clock.now(), { actor: actor.name, action: 'log.download', object: `run ${run.id}` }),
      );
      res.attachment(`run-${run.id}.log.txt`).type('text/plain; charset=utf-8');
      res.write(`Run ${run.id}: ${oneLine(run.name)}, ${run.state}\n`);
      for (let after = 0; ;) {
        const rows = await logOf(run, { limit: 100 }, actor)
          .where('l.seq', '>', after)
          .orderBy('l.seq')
          .limit(2000)
          .select<LogRow[]>(columns);
        for (const line of rows.map(toLine))
          res.write(
            `${[formatExact(line.at, deps.config.zone), line.level.padEnd(7), line.workload, line.code, line.path, line.message].map(oneLine).join('  ')}\n`,
          );
        if (rows.length < 2000) break;
        after = rows.at(-1)!.seq;
      }
      res.end();
    },

    async stopRun({ params, actor }) {
      const run = await runOf(params.id, actor);
      if (run.state !== 'waiting' && run.state !== 'running') throw new ApiError('NOT_NOW', undefined, 'The run has ended already.');
      await inTransaction(db, async (trx) => {
        await refuseWhereMachineRuns(trx, run.id, deps.movers.present());
        await stopRun(deps, trx, run.id);
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'run.stop', object: `run ${run.id}`, detail: run.name });
      });
      await deps.events.emit('run', { runId: run.id });
      return {};
    },

    async retryRun({ params, actor }) {
      const run = await runOf(params.id, actor);
      if (!isRetried(run)) throw new ApiError('NOT_NOW', undefined, startedWhere[run.kind] ?? 'Start it again where it was started.');
      const runId = await inTransaction(db, async (trx) => {
        const id = await retry(trx, clock.now(), run, unfinished, { person: actor.name });
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'run.retry', object: `run ${run.id}`, detail: `as run ${id}` });
        return id;
      });
      deps.movers.workAppeared();
      await deps.events.emit('run', { runId });
      return { runId };
    },
  };
}

async function earlierRuns(deps: Deps, run: RunRecord, actor: Actor): Promise<RunDetail['earlier']> {
  if (run.policy_id === null || run.kind !== 'backup') return [];
  const runs = await deps
    .db('run')
    .where({ policy_id: run.policy_id, kind: 'backup' })
    .where('id', '<', run.id)
    .whereNotNull('ended_at')
    .whereNotNull('started_at')
    .orderBy('id', 'desc')
    .limit(6)
    .select<RunRecord[]>();
  const tasks = await tasksOf(
    deps.db,
    runs.map((r) => r.id),
  );
  return runs.map((r) => {
    const own = visibleTasks(
      actor,
      r,
      tasks.filter((t) => t.run_id === r.id),
    );
    const { counts } = toRunRow(visibleRun(actor, r), own, undefined);
    return {
      id: r.id,
      startedAt: r.started_at!,
      ms: r.ended_at! - r.started_at!,
      bytes: counts.bytes,
      read: counts.read,
      stored: counts.stored,
      state: r.state,
    };
  });
}

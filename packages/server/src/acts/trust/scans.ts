import { grouped, lastClean } from '@lithodex/core';
import type { ScanFind, ScanNote, ScanWork } from '@lithodex/contract';
import type { Knex } from 'knex';
import { inTransaction } from '../../base/db/open';
import { ApiError } from '../../base/errors';
import type { Secrets } from '../../base/secrets';
import { pointRefs } from '../../records/targets/refs';
import type { JudgedPoint } from '../../records/trust/point-scans';
import { ruleSetNow, scanSettings, type RuleSetNow } from '../../records/trust/scan-rules';
import type { Deps } from '../deps';
import { queueRun, type NewTask } from '../runs/queue';

/** What a scan keeps in the queue: by which rules it is done is looked up when it is claimed. */
export interface ScanPlan {
  readonly targetId: string;
  readonly seriesNo: number;
  /** Oldest first. */
  readonly points: readonly string[];
}

const mostPoints = 1000;
/** After a scan that failed or was stopped, its series is let be for so long, unless rules change. */
const patienceMs = 6 * 3_600_000;

interface Candidate {
  readonly id: string;
  readonly series_no: number;
  readonly workload_id: number;
}

/** Queues a scan of points, a task for each series. Throws NOT_NOW where none of them stands anywhere. */
export async function queueScan(
  trx: Knex.Transaction,
  now: number,
  points: readonly string[],
  by: { readonly person: string; readonly name: string },
): Promise<number> {
  const rows = await trx('point as p')
    .join('series as s', 's.no', 'p.series_no')
    .whereIn('p.id', points)
    .orderBy(['p.series_no', 'p.ordinal'])
    .select<(Candidate & { target_id: string })[]>('p.id', 'p.series_no', 'p.workload_id', 's.target_id');
  const bySeries = grouped(rows, (r) => r.series_no);
  const tasks = [...bySeries.values()].flatMap((own): NewTask[] => {
    const { workload_id: workloadId, series_no: seriesNo, target_id: targetId } = own[0]!;
    const plans: NewTask[] = [];
    for (let from = 0; from < own.length; from += mostPoints) {
      const work: ScanPlan = { targetId, seriesNo, points: own.slice(from, from + mostPoints).map((r) => r.id) };
      plans.push({ workloadId, seriesNo, type: 'scan', work });
    }
    return plans;
  });
  if (!tasks.length) throw new ApiError('NOT_NOW', undefined, 'There is no point that could be scanned.');
  return queueRun(trx, now, {
    kind: 'scan',
    startedBy: by.person ? 'hand' : 'schedule',
    priority: 'last',
    name: by.name,
    person: by.person,
    rules: 'only backups are read',
    tasks,
  });
}

interface Living {
  readonly id: string;
  readonly items: number;
  readonly bytes: number;
  readonly rules: string | null;
  readonly not_looked: number | null;
  readonly sensitive_too: 0 | 1 | null;
  readonly sums_too: 0 | 1 | null;
  readonly told_all: 0 | 1 | null;
}

/** What a scan looks into: those of its points that were not scanned by the rules in force, from the last one before them that was. */
export async function scanWork(trx: Knex.Transaction, secrets: Secrets, plan: ScanPlan, now: number): Promise<ScanWork> {
  const settings = await scanSettings(trx);
  const set = await ruleSetNow(trx, now, settings.scanner);
  const living = await trx('point as p')
    .leftJoin('point_scan as s', 's.point_id', 'p.id')
    .where({ 'p.series_no': plan.seriesNo, 'p.state': 'visible' })
    .orderBy('p.ordinal')
    .select<Living[]>('p.id', 'p.items', 'p.bytes', 's.rules', 's.not_looked', 's.sensitive_too', 's.sums_too', 's.told_all');
  const isDone = (p: Living) => p.rules === set.id && p.sums_too === 1 && (!settings.sensitive || p.sensitive_too === 1);
  const asked = new Set(plan.points);
  const wanted = living.filter((p) => asked.has(p.id) && !isDone(p));
  const first = wanted[0] ? living.indexOf(wanted[0]) : 0;
  const noted = await notesOf(trx, plan.seriesNo);
  // one goes on only from where all is known that was found, and what could not be looked into
  const since = living.slice(0, first).findLast((p) => isDone(p) && p.told_all === 1 && (p.not_looked === 0 || p.id === noted.pointId));
  // the newest of which each was told
  const newestOf = { sensitive: living.findLastIndex((p) => p.sensitive_too === 1), sums: living.findLastIndex((p) => p.sums_too === 1) };
  const ids = [...(since ? [since.id] : []), ...wanted.map((p) => p.id)];
  const refs = new Map((await pointRefs(trx, secrets, ids, plan.targetId)).map((r) => [r.taskId, r]));
  const sinceRef = since && refs.get(since.id);
  const newest = wanted.at(-1);
  return {
    type: 'scan',
    points: wanted.flatMap((p) => {
      const ref = refs.get(p.id);
      const at = living.indexOf(p);
      return ref ? [{ ...ref, tells: { sums: at > newestOf.sums, sensitive: settings.sensitive && at > newestOf.sensitive } }] : [];
    }),
    since:
      since && sinceRef
        ? {
            point: sinceRef,
            finds: await findsOf(trx, [since.id]),
            notes: since.not_looked === 0 ? [] : noted.notes,
            told: { sums: living[newestOf.sums]?.id === since.id, sensitive: living[newestOf.sensitive]?.id === since.id },
          }
        : null,
    rules: [...set.files],
    scanner: settings.scanner,
    sensitive: settings.sensitive,
    expected: { items: newest?.items ?? 0, bytes: newest?.bytes ?? 0 },
  };
}

/** What could not be looked into in the newest scanned point of a series. */
async function notesOf(
  trx: Knex.Transaction,
  series: number,
): Promise<{ readonly pointId: string | undefined; readonly notes: ScanNote[] }> {
  const rows = await trx('scan_note')
    .where({ series_no: series })
    .orderBy('no')
    .select<{ point_id: string; path: Buffer; why: string }[]>('point_id', 'path', 'why');
  return { pointId: rows[0]?.point_id, notes: rows.map(({ path, why }) => ({ path: path.toString('latin1'), why })) };
}

/** What was found in points, with paths as byte strings. */
export async function findsOf(db: Knex, points: readonly string[]): Promise<(ScanFind & { readonly pointId: string })[]> {
  type Row = Omit<ScanFind, 'path' | 'within'> & { path: Buffer; inner_path: string; point_id: string };
  const rows = await db('scan_find')
    .whereIn('point_id', points)
    .orderBy('no')
    .select<Row[]>('point_id', 'path', 'inner_path', 'rule', 'about', 'grade', 'size', 'sum');
  return rows.map(({ path, inner_path, point_id, ...find }) => ({
    ...find,
    path: path.toString('latin1'),
    within: inner_path,
    pointId: point_id,
  }));
}

/** Of the points of one workload, that from which one would go back; null where none was scanned. */
export function cleanOf(points: readonly JudgedPoint[]): { id: string; moment: number; verdict: JudgedPoint['verdict'] } | null {
  const clean = lastClean(points);
  return clean ? { id: clean.id, moment: clean.moment, verdict: clean.verdict } : null;
}

/** Queues what is to be scanned by itself: points that came, and, where rules are newer, those that were scanned by older ones. */
export async function startDueScans(deps: Deps): Promise<void> {
  const { db, clock } = deps;
  const settings = await scanSettings(db);
  if (settings.when === 'never') return;
  const now = clock.now();
  const set = await ruleSetNow(db, now, settings.scanner);
  const due = await duePoints(db, settings, set, now);
  if (!due.length) return;
  const runId = await inTransaction(db, (trx) => queueScan(trx, now, due, { person: '', name: 'Scan of new points' }));
  deps.movers.workAppeared();
  await deps.events.emit('run', { runId });
}

/** Where a scan failed or was stopped, its points wait a while. */
async function duePoints(db: Knex, settings: Awaited<ReturnType<typeof scanSettings>>, set: RuleSetNow, now: number): Promise<string[]> {
  const open = db('task').where({ type: 'scan' }).whereIn('state', ['waiting', 'running']).select('series_no');
  const failed = db('task')
    .where({ type: 'scan' })
    .whereIn('state', ['failed', 'stopped'])
    .where('queued_at', '>', Math.max(set.at, now - patienceMs))
    .select('series_no');
  const living = () =>
    db('point as p')
      .where({ 'p.state': 'visible' })
      .whereNot({ 'p.kind': 'log' })
      .whereNotIn('p.series_no', open)
      .whereNotIn('p.series_no', failed)
      .modify((q) => {
        if (settings.when === 'unusual')
          void q.where((s) => void s.where('p.unusual', '>=', settings.fromScore).orWhere({ 'p.suspect': true }));
      });
  const stale = (q: Knex.QueryBuilder) =>
    void q.where((s) => {
      void s.whereNull('s.point_id');
      if (settings.again === 'all') void s.orWhereNot({ 's.rules': set.id });
      if (settings.sensitive) void s.orWhere({ 's.sensitive_too': false });
    });
  const waiting = await living().leftJoin('point_scan as s', 's.point_id', 'p.id').modify(stale).select<{ id: string }[]>('p.id');
  if (settings.again === 'all') return waiting.map((p) => p.id);
  const newest = await living()
    .join('point_scan as s', 's.point_id', 'p.id')
    .whereNot({ 's.rules': set.id })
    .whereNotExists(
      db('point as n').whereRaw(
        "n.workload_id = p.workload_id AND n.state = 'visible' AND n.kind <> 'log' AND (n.moment > p.moment OR (n.moment = p.moment AND n.ordinal > p.ordinal))",
      ),
    )
    .select<{ id: string }[]>('p.id');
  return [...new Set([...waiting, ...newest].map((p) => p.id))];
}

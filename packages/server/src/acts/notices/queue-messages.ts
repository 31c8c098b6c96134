import type { Cause, FoundMatter, RunState } from '@lithodex/contract';
import { DateTime } from 'luxon';
import { fromJsonOrNull } from '../../base/db/json';
import type { Deps } from '../deps';
import { makeReport } from '../reports/make-report';
import { reportCsv } from '../reports/report-csv';
import { auditHead } from '../../base/audit/trail';
import { morningOf } from '../watch/morning';
import { composeDigest, composeMatter, composeReport, composeRun, type Draft, type EndedRun, type Telling } from './compose';
import { noticesIn, shownMailServer, type NoticeRow } from '../../records/notices/notice-rows';

const minuteMs = 60_000;
const keptDays = 60;
const dayMs = 86_400_000;
/** Runs are looked for again so long after they ended, as the end of one may become known late. */
const lookBackMs = 5 * minuteMs;
const runsUntil = 'notices-runs-until';
const well: readonly RunState[] = ['done', 'remarks'];

/** Queues what there is to tell: matters that came up, runs that ended, digests and reports that are due. Doing it again changes nothing. */
export async function queueMessages(deps: Deps, matters: readonly FoundMatter[]): Promise<void> {
  const { db, clock, config } = deps;
  // before the notices are read: what was due or had ended by then is told as they were then
  const now = clock.now();
  const notices = (await noticesIn(db)).filter((n) => !n.paused);
  if (!notices.length) return;
  const telling: Telling = { zone: config.zone, links: (await shownMailServer(db))?.links ?? '' };
  await queueMatters(deps, notices, matters, telling);
  await queueRuns(deps, notices, telling, now);
  for (const notice of notices) await queueTimed(deps, notice, telling, now);
  await db('message')
    .where('queued_at', '<', now - keptDays * dayMs)
    .delete();
}

/** `about` names what it tells of: a notice tells of it once. */
async function queue({ db, clock }: Deps, notice: NoticeRow, about: string, compose: () => Draft | Promise<Draft>): Promise<void> {
  if (await db('message').where({ notice_id: notice.id, about }).first('id')) return;
  const { subject, body, data, attachment } = await compose();
  await db('message')
    .insert({
      notice_id: notice.id,
      about,
      subject,
      body,
      data: JSON.stringify(data),
      attachment: attachment ? JSON.stringify(attachment) : null,
      queued_at: clock.now(),
      next_try: clock.now(),
    })
    .onConflict()
    .ignore();
}

async function queueMatters(deps: Deps, notices: readonly NoticeRow[], matters: readonly FoundMatter[], telling: Telling): Promise<void> {
  const rows = await deps.db('matter').whereNull('closed_at').select<{ id: string; opened_at: number }[]>('id', 'opened_at');
  const opened = new Map(rows.map((r) => [r.id, r.opened_at]));
  for (const notice of notices) {
    const { about } = notice;
    if (about.what !== 'matters') continue;
    for (const matter of matters) {
      const at = opened.get(matter.id);
      const worth = matter.level === 'fault' || (about.level === 'warning' && matter.level === 'warning');
      if (worth && at !== undefined && at >= notice.since)
        await queue(deps, notice, `${matter.id} ${at}`, () => composeMatter(matter, telling));
    }
  }
}

async function queueRuns(deps: Deps, notices: readonly NoticeRow[], telling: Telling, now: number): Promise<void> {
  const { db } = deps;
  const wanting = notices.filter((n) => n.about.what === 'runs');
  const known = await db('setting').where({ name: runsUntil }).first<{ value: number } | undefined>('value');
  if (wanting.length) {
    const from = known ? Number(known.value) - lookBackMs : Math.min(...wanting.map((n) => n.since));
    type Ended = { id: number; name: string; state: RunState; policy_id: number | null; started_at: number | null; ended_at: number };
    const ended = await db('run').where({ kind: 'backup' }).where('ended_at', '>=', from).orderBy('id').select<Ended[]>();
    for (const run of ended)
      for (const notice of wanting) {
        const { about } = notice;
        if (about.what !== 'runs' || run.ended_at < notice.since) continue;
        if (about.policyId !== null && about.policyId !== run.policy_id) continue;
        if (about.outcome !== 'any' && (about.outcome === 'well') !== well.includes(run.state)) continue;
        await queue(deps, notice, `run ${run.id}`, async () =>
          composeRun({ ...run, startedAt: run.started_at, endedAt: run.ended_at, ...(await remarksOf(deps, run.id)) }, telling),
        );
      }
  }
  await db('setting')
    .insert({ name: runsUntil, value: JSON.stringify(now) })
    .onConflict('name')
    .merge(['value']);
}

async function remarksOf({ db }: Deps, runId: number): Promise<Pick<EndedRun, 'workloads' | 'remarks'>> {
  type Row = { workload: string | null; state: RunState; cause: unknown };
  const tasks = await db('task as t')
    .leftJoin('workload as w', 'w.id', 't.workload_id')
    .where('t.run_id', runId)
    .select<Row[]>('w.name as workload', 't.state', 't.cause');
  const remarks = tasks
    .filter((t) => t.state !== 'done')
    .map(({ workload, state, cause }) => {
      const known = fromJsonOrNull<Cause>(cause);
      return { workload: workload ?? '', state, cause: known?.message ?? '', remedy: known?.remedy ?? '' };
    });
  return { workloads: tasks.length, remarks };
}

async function queueTimed(deps: Deps, notice: NoticeRow, telling: Telling, now: number): Promise<void> {
  const { about, since } = notice;
  if (about.what !== 'digest' && about.what !== 'report') return;
  const due = lastDue(now, telling.zone, about.at, about.what === 'digest' ? 'day' : about.every);
  if (due.toMillis() < since) return;
  await queue(deps, notice, `${about.what} ${due.toISODate()}`, async () => {
    if (about.what === 'digest') return composeDigest({ ...(await morningOf(deps)), audit: await auditHead(deps.db) }, telling);
    const to = due.startOf('day');
    const report = await makeReport(deps, about.report, { from: to.minus({ [about.every]: 1 }).toMillis(), to: to.toMillis() });
    return composeReport(report, reportCsv(report), telling);
  });
}

/** The latest time of the day, Monday or first of the month that has come. */
function lastDue(now: number, zone: string, at: string, every: 'day' | 'week' | 'month'): DateTime {
  const [hour, minute] = at.split(':').map(Number);
  const present = DateTime.fromMillis(now, { zone });
  const due = present.startOf(every).set({ hour: hour!, minute: minute! });
  return due > present
    ? present
        .minus({ [every]: 1 })
        .startOf(every)
        .set({ hour: hour!, minute: minute! })
    : due;
}

import { countOf, cutMiddle, escapePath, formatBytes, formatDuration, formatFirst } from '@lithodex/core';
import type { Cause, FoundMatter, WorkloadRow } from '@lithodex/contract';
import { fromJson, fromJsonOrNull } from '../../base/db/json';
import type { Deps } from '../deps';
import { presentWorkloads } from '../estate/estate';
import { serverKinds } from '../kinds/server-kinds';
import { requestDays } from '../people/second-person';
import { policiesInForce } from '../../records/policies/matching';
import { matchesShown } from '../estate/matching-shown';
import { outlooks } from '../targets/room';
import { causeOf, newestPerWorkload, troubledTasksSince, type NightRow } from './night';
import { drillMatters } from './drill-matters';
import { envelopeMatters } from './envelope-matters';
import { installationMatters } from './installation-matters';
import { moverMatters } from './mover-matters';
import { changeMatters, comingEnds } from '../kinds/platform-matters';
import { recoverMatters } from './recover-matters';
import { scanMatters } from './scan-matters';
import { ownerMatters } from './owner-matters';
import { sequenceMatters } from './sequence-matters';
import { siteMatters } from './site-matters';
import { unusualWork } from './unusual-work';

const link = (label: string, path: string, query: Record<string, string> = {}) => ({ label, link: path, query });
const names = (list: readonly string[]) => formatFirst(list, 4);
const nearlyFullDays = 60;
const lookBackDays = 3;
const dayMs = 86_400_000;

/** Everything that needs a person now, one matter per cause, worst first. */
export async function foundMatters(deps: Deps): Promise<FoundMatter[]> {
  const estate = await presentWorkloads(deps);
  const tasks = await troubledTasksSince(deps, deps.clock.now() - lookBackDays * dayMs);
  return [
    ...(await suspects(deps, estate)),
    ...(await scanMatters(deps)),
    ...(await drillMatters(deps)),
    ...(await sequenceMatters(deps)),
    ...(await siteMatters(deps)),
    ...(await ownerMatters(deps)),
    ...failures(tasks, estate),
    ...(await ofKinds(deps)),
    ...(await moverMatters(deps)),
    ...(await damages(deps)),
    ...(await careFailures(deps)),
    ...(await targets(deps)),
    ...late(deps, estate, tasks),
    ...(await incomplete(deps, tasks)),
    ...(await recoverMatters(deps)),
    ...(await installationMatters(deps)),
    ...(await envelopeMatters(deps)),
    ...(await unusualWork(deps)),
    ...(await requests(deps)),
    ...(await unsent(deps)),
    ...(await changeMatters(deps)),
    ...(await emptyPolicies(deps)),
    ...(await unprotected(deps, estate)),
  ];
}

/** What each kind tells of itself. */
async function ofKinds(deps: Deps): Promise<FoundMatter[]> {
  const found: FoundMatter[] = [];
  for (const { matters } of Object.values(serverKinds)) found.push(...((await matters?.(deps)) ?? []));
  return found;
}

async function suspects(deps: Deps, estate: readonly WorkloadRow[]): Promise<FoundMatter[]> {
  type P = { id: string; workload_id: number; moment: number; changed: number; removed: number; added: number; reasons: unknown };
  const held = await deps.db('workload_points').where('suspects', '>', 0).select<{ workload_id: number }[]>('workload_id');
  if (!held.length) return [];
  const points = await deps
    .db('point')
    .whereIn(
      'workload_id',
      held.map((h) => h.workload_id),
    )
    .where({ suspect: true, state: 'visible' })
    .orderBy('moment')
    .select<P[]>();
  const first = [...new Map(points.reverse().map((p) => [p.workload_id, p])).values()];
  return first.map((p): FoundMatter => {
    const name = estate.find((w) => w.id === p.workload_id)?.name ?? 'a workload';
    const reasons = fromJson<string[]>(p.reasons);
    const encrypted = reasons.some((r) => r.includes('random'));
    return {
      id: `suspect-${p.workload_id}`,
      level: 'fault',
      title: encrypted ? `${name} looks encrypted` : `${name} changed far more than usual`,
      text: `${reasons.join('. ')}. The point is taken and kept apart; nothing of it expires until you say so.`,
      since: p.moment,
      action: link('See what changed', `/estate/${p.workload_id}`, { tab: 'damage' }),
      second: link('Why, and what was damaged', '/trust', { point: p.id }),
    };
  });
}

function failures(tasks: readonly NightRow[], estate: readonly WorkloadRow[]): FoundMatter[] {
  const failed = newestPerWorkload(tasks).filter((t) => t.state === 'failed');
  const byCause = new Map<string, NightRow[]>();
  for (const t of failed) {
    const code = causeOf(t)?.code ?? 'UNKNOWN';
    byCause.set(code, [...(byCause.get(code) ?? []), t]);
  }
  return [...byCause].map(([code, rows]): FoundMatter => {
    const cause = causeOf(rows[0]!);
    const tries = rows.length === 1 ? tasks.filter((t) => t.workload_id === rows[0]!.workload_id && t.state === 'failed').length : 0;
    return {
      id: `failed-${code}`,
      level: 'fault',
      title: rows.length === 1 ? `${rows[0]!.workload} was not protected` : `${countOf(rows.length, 'workload')} were not protected`,
      text: `${rows.length > 1 ? `${names(rows.map((r) => r.workload))}. ` : ''}${cause?.message ?? 'The run failed.'}${tries > 1 ? ` ${tries} tries.` : ''} ${cause?.remedy ?? ''}`.trim(),
      since: Math.min(...rows.map((r) => r.started_at)),
      ...nextSteps(code, rows, estate),
    };
  });
}

/** A cause that lies with the connection leads there; then the runs are tried again. */
function nextSteps(code: string, rows: readonly NightRow[], estate: readonly WorkloadRow[]): Pick<FoundMatter, 'action' | 'second'> {
  const run = link('See the run, then retry', `/runs/${rows[0]!.run_id}`);
  const workload = estate.find((w) => w.id === rows[0]!.workload_id);
  const connection = workload && serverKinds[workload.kind].connection;
  if (workload && connection?.causes.includes(code)) return { action: connection.link(workload.source.id), second: run };
  return { action: run, second: rows.length > 1 ? link('All of them', '/runs', { states: 'failed' }) : null };
}

/** What the newest run of a workload could not read, group by group of workloads. */
async function incomplete(deps: Deps, tasks: readonly NightRow[]): Promise<FoundMatter[]> {
  const partial = newestPerWorkload(tasks).filter((t) => t.state === 'partsMissing');
  const found: FoundMatter[] = [];
  for (const t of partial) {
    const lines = await deps
      .db('log_line')
      .where({ run_id: t.run_id })
      .whereIn('code', ['UNREADABLE', 'SYSTEM_PARTS'])
      .whereIn('task_id', deps.db('task').where({ run_id: t.run_id, workload_id: t.workload_id }).select('id'))
      .orderByRaw("code = 'UNREADABLE' DESC")
      .limit(3)
      .select<{ code: string; path: Buffer }[]>('code', 'path');
    const unread = lines.filter((l) => l.code === 'UNREADABLE');
    // what a server lacks to be rebuilt is a matter of its own
    if (lines.length && !unread.length) continue;
    const paths = unread.map((l) => cutMiddle(escapePath(l.path.toString('latin1')), 48)).join(', ');
    found.push({
      id: `parts-${t.workload_id}`,
      level: 'warning',
      title: `Parts of ${t.workload} are missing`,
      text: `Could not be read: ${paths || 'see the log'}. Everything else is protected; the mover needs the right to read it.`,
      since: t.started_at,
      action: link('See the log', `/runs/${t.run_id}`, { level: 'warning' }),
      second: null,
    });
  }
  return found;
}

async function targets(deps: Deps): Promise<FoundMatter[]> {
  const now = deps.clock.now();
  return (await outlooks(deps)).flatMap(({ target: t, forecast, fill }): FoundMatter[] => {
    if (t.trouble)
      return [
        {
          id: `target-${t.id}`,
          level: 'fault',
          title: `${t.name} can not be used`,
          text: t.trouble,
          since: now,
          action: link('Open storage', '/storage'),
          second: null,
        },
      ];
    if (!forecast || !fill?.expected || fill.expected - now > nearlyFullDays * dayMs) return [];
    const days = Math.max(0, fill.expected - now);
    return [
      {
        id: `full-${t.id}`,
        level: 'warning',
        title: days ? `${t.name} will be full in about ${formatDuration(days)}` : `${t.name} is full`,
        text: `It grows by ${formatBytes(forecast.perDay)} a day; ${formatBytes(t.free ?? 0)} free.`,
        since: now,
        action: link('See what fills it', `/storage/${t.id}`),
        second: null,
      },
    ];
  });
}

function late(deps: Deps, estate: readonly WorkloadRow[], tasks: readonly NightRow[]): FoundMatter[] {
  const failed = new Set(
    newestPerWorkload(tasks)
      .filter((t) => t.state === 'failed')
      .map((t) => t.workload_id),
  );
  const rows = estate.filter((w) => w.late && !failed.has(w.id) && w.coverage !== 'suspect');
  if (!rows.length) return [];
  return [
    {
      id: 'late',
      level: 'warning',
      title: `${countOf(rows.length, 'workload')} past the objective`,
      text: `${names(rows.map((w) => (w.newestPoint ? `${w.name}, ${formatDuration(deps.clock.now() - w.newestPoint.moment)} old` : `${w.name}, no point yet`)))}.`,
      since: deps.clock.now(),
      action: link('See them', '/estate', { show: 'late' }),
      second: null,
    },
  ];
}

async function requests(deps: Deps): Promise<FoundMatter[]> {
  type Row = { id: number; effect: string; asked_at: number; asker: string };
  const rows = await deps
    .db('request as r')
    .join('person as p', 'p.id', 'r.asked_by')
    .where({ 'r.state': 'waiting' })
    .where('r.asked_at', '>', deps.clock.now() - requestDays * dayMs)
    .orderBy('r.id')
    .select<Row[]>('r.id', 'r.effect', 'r.asked_at', 'p.display as asker');
  return rows.map((r) => ({
    id: `request-${r.id}`,
    level: 'warning',
    title: 'A second person is asked',
    text: `${r.asker} asks for this: ${r.effect}`,
    since: r.asked_at,
    action: link('Decide', '/trust/acts'),
    second: null,
  }));
}

/** Notices that do not reach those they are for. */
async function unsent(deps: Deps): Promise<FoundMatter[]> {
  type Row = { notice_id: number; name: string; n: number; since: number; trouble: string };
  const rows = await deps
    .db('message as m')
    .join('notice as n', 'n.id', 'm.notice_id')
    .whereNull('m.sent_at')
    .where('m.tries', '>', 0)
    .where('n.paused', false)
    .where('m.queued_at', '>', deps.clock.now() - lookBackDays * dayMs)
    .groupBy('m.notice_id', 'n.name')
    .select<Row[]>('m.notice_id', 'n.name', deps.db.raw('COUNT(*) AS n, MIN(m.queued_at) AS since, MAX(m.trouble) AS trouble'));
  return rows.map((r) => ({
    id: `notice-${r.notice_id}`,
    level: 'warning',
    title: `“${r.name}” reaches nobody`,
    text: `${countOf(Number(r.n), 'message')} not sent: ${r.trouble}`,
    since: r.since,
    action: link('See the messages', '/reports/notices'),
    second: null,
  }));
}

async function emptyPolicies(deps: Deps): Promise<FoundMatter[]> {
  const matters: FoundMatter[] = [];
  for (const p of await policiesInForce(deps.db))
    if (!(await matchesShown(deps, p.body)).length)
      matters.push({
        id: `empty-${p.id}`,
        level: 'absent',
        title: `${p.name} matches nothing`,
        text: 'It protects nothing as it stands.',
        since: deps.clock.now(),
        action: link('Open the policy', `/policies/${p.id}`),
        second: null,
      });
  return matters;
}

/** Verifications that found damage and no later one of the same target that read as much and found none. */
async function damages(deps: Deps): Promise<FoundMatter[]> {
  type Row = { id: number; name: string; state: string; rules: string; ended_at: number };
  const rows = await deps
    .db('run')
    .where({ kind: 'verify' })
    .whereNotNull('ended_at')
    .where('queued_at', '>', deps.clock.now() - 8 * dayMs)
    .orderBy('id', 'desc')
    .select<Row[]>('id', 'name', 'state', 'rules', 'ended_at');
  const settled = new Set<string>();
  const open = new Map<string, Row>();
  for (const row of rows) {
    const key = `${row.name} ${row.rules}`;
    if (row.state === 'partsMissing' && !settled.has(key) && !settled.has(row.name)) open.set(row.name, row);
    if (row.state === 'done') settled.add(row.rules.startsWith('everything') ? row.name : key);
  }
  return [...open.values()].map((row) => ({
    id: `damage-${row.id}`,
    level: 'fault',
    title: `${row.name.replace('Verification of ', '')} is damaged`,
    text: 'What was read again is not as it was written. The log names the objects, and the points and items that need them.',
    since: row.ended_at,
    action: link('See what is damaged', `/runs/${row.id}`, { level: 'fault' }),
    second: null,
  }));
}

/** Targets whose newest prune, verification or copy failed. */
async function careFailures(deps: Deps): Promise<FoundMatter[]> {
  type Row = { id: number; name: string; state: string; ended_at: number };
  const rows = await deps
    .db('run')
    .whereIn('kind', ['prune', 'verify', 'copy'])
    .where('queued_at', '>', deps.clock.now() - 8 * dayMs)
    .whereNotNull('ended_at')
    .orderBy('id')
    .select<Row[]>('id', 'name', 'state', 'ended_at');
  const failed = [...new Map(rows.map((row) => [row.name, row])).values()].filter((row) => row.state === 'failed');
  return Promise.all(
    failed.map(async (row): Promise<FoundMatter> => {
      const task = await deps.db('task').where({ run_id: row.id }).whereNotNull('cause').first<{ cause: unknown } | undefined>('cause');
      const cause = fromJsonOrNull<Cause>(task?.cause ?? null);
      return {
        id: `care-${row.id}`,
        level: 'warning',
        title: `${row.name} failed`,
        text: cause ? `${cause.message} ${cause.remedy}` : 'See the log.',
        since: row.ended_at,
        action: link('See the run', `/runs/${row.id}`),
        second: null,
      };
    }),
  );
}

async function unprotected(deps: Deps, estate: readonly WorkloadRow[]): Promise<FoundMatter[]> {
  const rows = estate.filter((w) => w.coverage === 'none');
  if (!rows.length) return [];
  const oldest = await deps
    .db('workload')
    .whereIn(
      'id',
      rows.map((w) => w.id),
    )
    .min({ at: 'created_at' })
    .first<{ at: number }>();
  return [
    {
      id: 'unprotected',
      level: 'absent',
      title: rows.length === 1 ? `${rows[0]!.name} is unprotected` : `${countOf(rows.length, 'workload')} are unprotected`,
      text: rows.length === 1 ? 'No policy matches it, so nothing of it can be brought back.' : names(rows.map((w) => w.name)),
      since: oldest.at,
      action: link('Choose a policy', '/estate', { show: 'none' }),
      second: null,
    },
  ];
}

/** What will go wrong if nothing changes. */
export async function comingOf(deps: Deps): Promise<{ at: number; text: string }[]> {
  const until = deps.clock.now() + 400 * dayMs;
  const full = (await outlooks(deps)).flatMap(({ target, forecast, fill }) =>
    forecast && fill?.expected && fill.expected < until
      ? [{ at: Math.round(fill.expected), text: `${target.name} is full at ${formatBytes(forecast.perDay)} a day` }]
      : [],
  );
  return [...full, ...(await comingEnds(deps))].sort((a, b) => a.at - b.at);
}

import { countOf, formatShare, median, parentPath } from '@lithodex/core';
import type { FinderHit, Ledge, Progress, RunState, Watch, WorkloadRow } from '@lithodex/contract';
import { searchNames } from '../../records/catalog/search';
import { fromJsonOrNull } from '../../base/db/json';
import type { Deps } from '../../acts/deps';
import { presentWorkloads } from '../../acts/estate/estate';
import { actorOf } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { sessionStands } from '../../base/http/session-store';
import { eventsFor } from '../../records/runs/visible-runs';
import { policiesInForce } from '../../records/policies/matching';
import { nextStarts } from '../../records/policies/timetable';
import { changeMatter, helpers, presentMatters, rememberLook } from '../../acts/watch/matter-book';
import { comingOf, foundMatters } from '../../acts/watch/matters';
import { leadOf } from '../../acts/watch/morning';
import { hasRun, atWork, causeOf, newestPerWorkload, nightStart, slotMs, spanOf, toNightTask, type NightRow } from '../../acts/watch/night';
import { groupOf, type EarlierNights } from '../../acts/watch/earlier-nights';

type WatchHandlers = Pick<Handlers, 'watch' | 'looked' | 'changeMatter' | 'ledge' | 'find' | 'events'>;

const deviant: readonly RunState[] = ['failed', 'held', 'partsMissing', 'remarks', 'stopped', 'cutOff', 'notStarted'];
const dayMs = 86_400_000;
async function factsOf(
  deps: Deps,
  estate: readonly WorkloadRow[],
  /** The one night that is shown, with those it is compared with. */
  night: { readonly earlier: EarlierNights; readonly tonight: readonly NightRow[] } | null,
): Promise<Watch['facts']> {
  const { db } = deps;
  const sums = await db('workload_points').first<{ bytes: number | null; stored: number | null }>(
    db.raw('SUM(all_bytes) AS bytes, SUM(all_stored) AS stored'),
  );
  const used = await db('target').sum({ used: 'used' }).first<{ used: number | null }>();
  const stored = Number(used?.used ?? sums?.stored ?? 0);
  const withPoint = estate
    .filter((w) => w.newestPoint && w.objectiveHours !== null)
    .sort((a, b) => a.newestPoint!.moment - b.newestPoint!.moment);
  const oldest = withPoint[0];
  const spans = night?.earlier.spans ?? [];
  const usual = spans.length ? median(spans) : null;
  const restore = await db('run')
    .where({ kind: 'restore' })
    .whereNotNull('ended_at')
    .orderBy('id', 'desc')
    .first<{ id: number; ended_at: number; state: RunState } | undefined>();
  return {
    newestBytes: estate.reduce((a, w) => a + (w.newestPoint?.bytes ?? 0), 0),
    storedBytes: stored,
    oldestNewest: oldest
      ? { moment: oldest.newestPoint!.moment, workload: oldest.name, objectiveHours: oldest.objectiveHours!, late: oldest.late }
      : null,
    nightMs: night && spanOf(night.tonight.filter(hasRun)),
    usualNightMs: usual,
    reduction: stored > 0 ? Number(sums?.bytes ?? 0) / stored : null,
    lastRestore: restore ? { runId: restore.id, at: restore.ended_at, state: restore.state } : null,
  };
}

function remarkOf(t: NightRow, held: string | undefined): string {
  if (t.state === 'held') return held ?? 'held for a person';
  const cause = causeOf(t);
  const { warnings } = fromJsonOrNull<{ warnings: number }>(t.counts) ?? { warnings: 0 };
  return (
    cause?.message ?? (t.state === 'partsMissing' ? `${countOf(warnings, 'item')} missing from the point` : countOf(warnings, 'remark'))
  );
}

export function watchHandlers(deps: Deps): WatchHandlers {
  const { db, clock, config } = deps;
  return {
    async watch({ query, actor }) {
      const now = clock.now();
      const from = nightStart(now, config.zone, query.nights);
      const [tonight, earlier] = await Promise.all([deps.nights.tasks(from), deps.nights.before(from)]);
      const estate = await presentWorkloads(deps);
      const slots = Math.ceil((now - from) / slotMs);
      const held = estate.filter((w) => w.coverage === 'suspect').map((w) => w.id);
      const suspects = held.length
        ? await db('point')
            .whereIn('workload_id', held)
            .where({ suspect: true, state: 'visible' })
            .where('moment', '>=', from)
            .select<{ workload_id: number; share: number }[]>('workload_id', 'share')
        : [];
      const heldText = new Map(suspects.map((p) => [p.workload_id, `${formatShare(p.share)} of the files changed or gone`]));
      const newest = newestPerWorkload(tonight);
      const deviants = newest
        .filter((t) => deviant.includes(t.state))
        .sort((a, b) => deviant.indexOf(a.state) - deviant.indexOf(b.state))
        .slice(0, 8)
        .map((t) =>
          toNightTask(
            t,
            tonight.filter((o) => o.workload_id === t.workload_id && hasRun(o)).length,
            remarkOf(t, heldText.get(t.workload_id)),
          ),
        );
      const names = [...new Set(tonight.map((t) => groupOf(t, query.by)))].sort().slice(0, 6);
      const groups = names.map((name) => {
        const own = tonight.filter((t) => groupOf(t, query.by) === name);
        const usual = earlier.usual(query.by, name);
        return {
          name,
          note: countOf(new Set(own.map((t) => t.workload_id)).size, 'workload'),
          now: atWork(own, from, slots, now),
          usual: Array.from({ length: slots }, (_, slot) => usual[slot % usual.length]!),
        };
      });
      return {
        now,
        zone: config.zone,
        from,
        lead: leadOf(estate, tonight),
        facts: await factsOf(deps, estate, query.nights === 1 ? { earlier, tonight } : null),
        deviants,
        groups,
        slotMs,
        quiet: newest.filter((t) => t.state === 'done').length,
        ...(await presentMatters(deps, await foundMatters(deps), actor)),
        people: await helpers(db),
        coming: await comingOf(deps),
      };
    },

    async looked({ actor }) {
      await rememberLook(deps, actor);
      return {};
    },

    async changeMatter({ params, body, actor }) {
      await changeMatter(deps, await foundMatters(deps), params.id, body, actor);
      return {};
    },

    async ledge(): Promise<Ledge> {
      const now = clock.now();
      type T = { run_id: number; name: string; workload: string | null; started_at: number; progress: unknown; kind: string };
      const tasks = await db('task as t')
        .join('run as r', 'r.id', 't.run_id')
        .leftJoin('workload as w', 'w.id', 't.workload_id')
        .where({ 't.state': 'running', 't.follows': false })
        .whereNot('r.kind', 'expire')
        .orderBy('t.started_at')
        .limit(20)
        .select<T[]>('t.run_id', 'r.name', 'r.kind', 'w.name as workload', 't.started_at', 't.progress');
      const waiting = await db('task').where({ state: 'waiting' }).whereNot('type', 'expire').count({ n: '*' }).first<{ n: number }>();
      const staying = await db('task')
        .where({ state: 'running', follows: true })
        .groupBy('type')
        .select<{ type: string; n: number }[]>('type', db.raw('COUNT(*) AS n'));
      const stayingOf = (type: string) => Number(staying.find((s) => s.type === type)?.n ?? 0);
      const coming = (await policiesInForce(db))
        .flatMap((p) => nextStarts(p.body, p.timetables, now, 2).map((at) => ({ at, policyId: p.id, name: p.name })))
        .filter((c) => c.at - now < dayMs / 2)
        .sort((a, b) => a.at - b.at)
        .slice(0, 12);
      return {
        now,
        waiting: Number(waiting?.n ?? 0),
        followed: stayingOf('backup'),
        attached: stayingOf('attach'),
        fromStore: stayingOf('runMachine'),
        coming,
        running: tasks.map((t) => {
          const p = fromJsonOrNull<Progress>(t.progress);
          const share = p && p.expectedBytes > 0 ? Math.min(1, p.bytes / p.expectedBytes) : null;
          return {
            runId: t.run_id,
            name: t.kind === 'backup' ? (t.workload ?? t.name) : t.name,
            startedAt: t.started_at,
            share,
            leftMs: p?.leftMs ?? null,
            text: p?.phase ?? 'starting',
          };
        }),
      };
    },

    async find({ query }) {
      const text = query.q.toLowerCase();
      const hits: FinderHit[] = [];
      const workloads = (await deps.estate.rows(null)).filter((w) => w.name.toLowerCase().includes(text)).slice(0, 6);
      hits.push(
        ...workloads.map((w): FinderHit => ({
          kind: 'workload',
          title: w.name,
          note: countOf(w.points, 'point'),
          link: `/estate/${w.id}`,
          query: {},
        })),
      );
      const policies = (await policiesInForce(db)).filter((p) => p.name.toLowerCase().includes(text)).slice(0, 4);
      hits.push(
        ...policies.map((p): FinderHit => ({ kind: 'policy', title: p.name, note: 'policy', link: `/policies/${p.id}`, query: {} })),
      );
      if (/^\d+$/.test(text)) {
        const run = await db('run')
          .where({ id: Number(text) })
          .first<{ id: number; name: string; state: string } | undefined>();
        if (run) hits.push({ kind: 'run', title: `Run ${run.id}, ${run.name}`, note: run.state, link: `/runs/${run.id}`, query: {} });
      }
      if (text.length >= 2) {
        const files = await searchNames(db, deps.names, query.q, null, 0, 8);
        hits.push(
          ...files.rows.map((f): FinderHit => ({
            kind: 'file',
            title: f.path.slice(f.path.lastIndexOf('/') + 1),
            note: `${f.workload.name}: ${parentPath(f.path) || '/'}`,
            link: '/recover',
            query: { q: f.path.slice(f.path.lastIndexOf('/') + 1), item: `${f.workload.id}:${f.path}` },
          })),
        );
      }
      return { hits };
    },

    async events({ req, res, actor }) {
      const last = Number(req.headers['last-event-id'] ?? req.query['lastEventId']);
      const off = deps.calls.onEnd(actor.key, () => res.end());
      res.on('close', off);
      await deps.events.stream(
        res,
        Number.isSafeInteger(last) && last >= 0 && (req.headers['last-event-id'] ?? req.query['lastEventId']) !== undefined
          ? last
          : undefined,
        {
          sees: eventsFor(db, actor),
          stillIn: async () => (await actorOf(db, req).catch(() => undefined))?.key === actor.key && (await sessionStands(db, req)),
        },
      );
    },
  };
}

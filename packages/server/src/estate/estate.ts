import { longestGap } from '@lithodex/core';
import type { Estate, MachineFacts, WorkloadRow } from '@lithodex/contract';
import { fromJsonOrNull } from '../db/json';
import type { Deps } from '../deps';
import { policiesInForce } from '../policies/matching';

interface Base {
  readonly id: number;
  readonly name: string;
  readonly created_at: number;
  readonly frozen: 0 | 1;
  readonly source_id: number;
  readonly source: string;
  readonly location: string;
  readonly folder: Buffer;
  readonly kind: WorkloadRow['kind'];
  readonly facts: unknown;
  readonly gone_at: number | null;
}

interface Newest {
  readonly id: string;
  readonly workload_id: number;
  readonly moment: number;
  readonly bytes: number;
  readonly items: number;
}

/** All workloads with their coverage; `at` asks for the state of then, with only the points that can still be brought back. */
export async function estateOf(deps: Deps, at: number | null, only: readonly number[] | null): Promise<WorkloadRow[]> {
  const { db, clock } = deps;
  const now = at ?? clock.now();
  const asOf = at === null ? '' : ` FOR SYSTEM_TIME AS OF TIMESTAMP FROM_UNIXTIME(${Number(at) / 1000})`;
  const base = (
    await db('workload as w')
      .join('source as s', 's.id', 'w.source_id')
      .where('w.created_at', '<=', now)
      .orderBy('w.name')
      .select<Base[]>(
        'w.id',
        'w.name',
        'w.created_at',
        'w.frozen',
        'w.kind',
        'w.facts',
        'w.gone_at',
        's.id as source_id',
        's.name as source',
        's.location',
        's.folder',
      )
  ).filter((w) => !only || only.includes(w.id));
  const tags = await db.from(db.raw(`tag${asOf}`)).select<{ workload_id: number; name: string }[]>('workload_id', 'name');
  const assigned = await db
    .from(db.raw(`assignment${asOf}`))
    .select<{ policy_id: number; workload_id: number }[]>('policy_id', 'workload_id');
  const policies = new Map((await policiesInForce(db)).map((p) => [p.id, p]));
  const counts = await db('point')
    .where({ state: 'visible' })
    .where('moment', '<=', now)
    .groupBy('workload_id')
    .select<{ workload_id: number; n: number; newest: number; good: number | null; oldest: number; suspects: number }[]>(
      'workload_id',
      db.raw(
        'COUNT(*) AS n, MAX(moment) AS newest, MAX(IF(suspect, NULL, moment)) AS good, MIN(moment) AS oldest, SUM(suspect) AS suspects',
      ),
    );
  const byWorkload = new Map(counts.map((c) => [c.workload_id, c]));
  const newest = counts.length
    ? await db('point')
        .where({ state: 'visible' })
        .whereIn(
          ['workload_id', 'moment'],
          counts.map((c) => [c.workload_id, c.good ?? c.newest]),
        )
        .select<Newest[]>('id', 'workload_id', 'moment', 'bytes', 'items')
    : [];
  const newestOf = new Map(newest.map((n) => [n.workload_id, n]));
  return base.map((w): WorkloadRow => {
    const own = assigned.filter((a) => a.workload_id === w.id).flatMap((a) => policies.get(a.policy_id) ?? []);
    const point = newestOf.get(w.id);
    const count = byWorkload.get(w.id);
    const objective = own.length ? Math.min(...own.map((p) => p.body.objectiveHours)) : null;
    const scheduled = own.filter((p) => Number.isFinite(longestGap(p.timetable.schedule)));
    const reference = point?.moment ?? w.created_at;
    const machine = fromJsonOrNull<MachineFacts>(w.facts);
    const gone = w.gone_at !== null && w.gone_at <= now ? w.gone_at : null;
    return {
      id: w.id,
      name: w.name,
      kind: w.kind,
      machine,
      gone,
      source: { id: w.source_id, name: w.source, location: machine?.location ?? w.location, folder: w.folder.toString() },
      tags: tags.filter((t) => t.workload_id === w.id).map((t) => t.name),
      policies: own.map((p) => ({ id: p.id, name: p.name })),
      coverage:
        Number(count?.suspects ?? 0) > 0 ? 'suspect' : point ? (own.length ? 'protected' : 'none') : own.length ? 'matched' : 'none',
      newestPoint: point ? { id: point.id, moment: point.moment, bytes: point.bytes, items: point.items } : null,
      points: Number(count?.n ?? 0),
      objectiveHours: objective,
      late: gone === null && objective !== null && scheduled.length > 0 && now - reference > objective * 3_600_000,
      oldestPoint: count?.oldest ?? null,
    };
  });
}

/** Workloads that are there now. */
export async function presentWorkloads(deps: Deps): Promise<WorkloadRow[]> {
  return (await estateOf(deps, null, null)).filter((w) => w.gone === null);
}

const urgency: readonly WorkloadRow['coverage'][] = ['none', 'suspect', 'matched', 'protected'];

/** The estate sorted by what needs protection first. */
export async function estateAnswer(
  deps: Deps,
  query: { at?: number | undefined; q?: string | undefined },
  only: readonly number[] | null,
): Promise<Estate> {
  const at = query.at !== undefined && query.at < deps.clock.now() ? query.at : null;
  const known = (await estateOf(deps, at, only)).filter((w) => w.gone === null || w.points > 0);
  const all = known.filter((w) => w.gone === null);
  const text = query.q?.toLowerCase();
  const shown = known.filter(
    (w) => !text || [w.name, w.source.name, w.source.location, ...w.tags].some((t) => t.toLowerCase().includes(text)),
  );
  shown.sort(
    (a, b) => urgency.indexOf(a.coverage) - urgency.indexOf(b.coverage) || Number(b.late) - Number(a.late) || a.name.localeCompare(b.name),
  );
  const count = (mark: WorkloadRow['coverage']) => all.filter((w) => w.coverage === mark).length;
  const tags = new Map<string, number>();
  for (const w of all) for (const t of w.tags) tags.set(t, (tags.get(t) ?? 0) + 1);
  return {
    asOf: at,
    workloads: shown,
    counts: {
      all: all.length,
      none: count('none'),
      matched: count('matched'),
      protected: count('protected'),
      suspect: count('suspect'),
      late: all.filter((w) => w.late).length,
      gone: known.length - all.length,
    },
    tags: [...tags].map(([name, n]) => ({ name, count: n })).sort((a, b) => a.name.localeCompare(b.name)),
  };
}

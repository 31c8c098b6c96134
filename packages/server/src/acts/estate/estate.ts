import { longestGap } from '@lithodex/core';
import type { MachineFacts, WorkloadFacts, WorkloadRow } from '@lithodex/contract';
import type { Knex } from 'knex';
import type { Base } from '../../base/base';
import { fromJsonOrNull } from '../../base/db/json';
import { policiesInForce } from '../../records/policies/matching';
import type { PointSummary } from '../../records/catalog/point-summary';

/** What does not change with the runs: the workloads, what is said of them, and their tags. */
export interface Known {
  readonly id: number;
  readonly name: string;
  readonly createdAt: number;
  readonly kind: WorkloadRow['kind'];
  readonly source: WorkloadRow['source'];
  readonly machine: MachineFacts | null;
  readonly facts: WorkloadFacts | null;
  /** Account that is used inside of it. */
  readonly inside: string | null;
  readonly goneAt: number | null;
  readonly tags: string[];
}

interface KnownRow {
  readonly inside: string | null;
  readonly id: number;
  readonly name: string;
  readonly created_at: number;
  readonly source_id: number;
  readonly source: string;
  readonly location: string;
  readonly folder: Buffer;
  readonly kind: WorkloadRow['kind'];
  readonly facts: unknown;
  readonly gone_at: number | null;
}

const asOf = (at: number | null) => (at === null ? '' : ` FOR SYSTEM_TIME AS OF TIMESTAMP FROM_UNIXTIME(${Number(at) / 1000})`);

const order = new Intl.Collator('en', { numeric: true });

/** The same workloads with the tags they had at a moment. */
async function taggedThen(db: Knex, known: readonly Known[], at: number): Promise<Known[]> {
  const tags = await db.from(db.raw(`tag${asOf(at)}`)).select<{ workload_id: number; name: string }[]>('workload_id', 'name');
  const tagsOf = grouped(tags, (t) => t.name);
  return known.map((w) => ({ ...w, tags: tagsOf.get(w.id) ?? [] }));
}

/** All workloads that were there at some time, by name, with their tags. */
export async function knownWorkloads(db: Knex): Promise<Known[]> {
  const rows = await db('workload as w')
    .join('source as s', 's.id', 'w.source_id')
    .leftJoin('inside_account as i', 'i.workload_id', 'w.id')
    .select<KnownRow[]>(
      'w.id',
      'w.name',
      'w.created_at',
      'w.kind',
      'w.facts',
      'w.gone_at',
      's.id as source_id',
      's.name as source',
      's.location',
      's.folder',
      'i.name as inside',
    );
  const tags = await db('tag').select<{ workload_id: number; name: string }[]>('workload_id', 'name');
  const tagsOf = grouped(tags, (t) => t.name);
  rows.sort((a, b) => order.compare(a.name, b.name) || a.id - b.id);
  return rows.map((w): Known => {
    const machine = w.kind === 'machine' ? fromJsonOrNull<MachineFacts>(w.facts) : null;
    const facts = w.kind === 'machine' ? null : fromJsonOrNull<WorkloadFacts>(w.facts);
    return {
      id: w.id,
      name: w.name,
      createdAt: w.created_at,
      kind: w.kind,
      source: { id: w.source_id, name: w.source, location: machine?.location ?? w.location, folder: w.folder.toString() },
      machine,
      facts,
      inside: w.inside,
      goneAt: w.gone_at,
      tags: tagsOf.get(w.id) ?? [],
    };
  });
}

const shownColumns = ['workload_id', 'points', 'oldest', 'suspects', 'point_id', 'moment', 'bytes', 'items'] as const;
type Shown = Pick<PointSummary, (typeof shownColumns)[number]>;

/** The workloads with their coverage; `at` asks for the state of then, with only the points that can still be brought back. */
export async function estateOf(
  { db, clock }: Pick<Base, 'db' | 'clock'>,
  known: readonly Known[],
  at: number | null,
): Promise<WorkloadRow[]> {
  const now = at ?? clock.now();
  const [assigned, inForce, summaries, workloads] = await Promise.all([
    db.from(db.raw(`assignment${asOf(at)}`)).select<{ policy_id: number; workload_id: number }[]>('policy_id', 'workload_id'),
    policiesInForce(db),
    at === null ? db('workload_points').select<Shown[]>(...shownColumns) : summariesThen(db, now),
    at === null ? known : taggedThen(db, known, at),
  ]);
  const policies = new Map(inForce.map((p) => [p.id, p]));
  const scheduled = new Set(
    [...policies.values()].filter((p) => p.timetables.some((t) => Number.isFinite(longestGap(t.schedule)))).map((p) => p.id),
  );
  const byWorkload = new Map(summaries.map((c) => [c.workload_id, c]));
  const policiesOf = grouped(assigned, (a) => a.policy_id);
  return workloads
    .filter((w) => w.createdAt <= now)
    .map((w): WorkloadRow => {
      const own = (policiesOf.get(w.id) ?? []).flatMap((id) => policies.get(id) ?? []);
      const point = byWorkload.get(w.id);
      const objective = own.length ? Math.min(...own.map((p) => p.body.objectiveHours)) : null;
      const reference = point?.moment ?? w.createdAt;
      const gone = w.goneAt !== null && w.goneAt <= now ? w.goneAt : null;
      return {
        id: w.id,
        name: w.name,
        kind: w.kind,
        machine: w.machine,
        facts: w.facts,
        inside: w.inside,
        gone,
        source: w.source,
        tags: w.tags,
        policies: own.map((p) => ({ id: p.id, name: p.name })),
        coverage:
          Number(point?.suspects ?? 0) > 0 ? 'suspect' : point ? (own.length ? 'protected' : 'none') : own.length ? 'matched' : 'none',
        newestPoint: point ? { id: point.point_id, moment: point.moment, bytes: point.bytes, items: point.items } : null,
        points: point?.points ?? 0,
        objectiveHours: objective,
        late: gone === null && objective !== null && own.some((p) => scheduled.has(p.id)) && now - reference > objective * 3_600_000,
        oldestPoint: point?.oldest ?? null,
      };
    });
}

/** Workloads that are there now. */
export async function presentWorkloads(deps: { readonly estate: { rows(at: null): Promise<WorkloadRow[]> } }): Promise<WorkloadRow[]> {
  return (await deps.estate.rows(null)).filter((w) => w.gone === null);
}

/** The same as the summaries, of the points that had been taken by `now` and can still be brought back; what takes long to find out of all of them is left to {@link pointsThen}. */
async function summariesThen(db: Knex, now: number): Promise<Shown[]> {
  // one look into the index for each workload, in place of counting a million points
  const newest = (sound: string) =>
    `(SELECT p.moment FROM point p FORCE INDEX (workload_id) WHERE p.workload_id = w.workload_id AND p.state = 'visible' AND p.moment <= ?${sound}
      ORDER BY p.moment DESC LIMIT 1)`;
  type Row = Pick<Shown, 'workload_id' | 'oldest' | 'suspects'> & { readonly moment: number };
  const rows = await db('workload_points as w')
    .where('w.oldest', '<=', now)
    .select<Row[]>(
      'w.workload_id',
      'w.oldest',
      db.raw(`COALESCE(${newest(' AND p.suspect = 0')}, ${newest('')}) AS moment`, [now, now]),
      db.raw(
        `IF(w.suspects = 0, 0, (SELECT COUNT(*) FROM point p WHERE p.workload_id = w.workload_id AND p.state = 'visible' AND p.moment <= ? AND p.suspect = 1))
         AS suspects`,
        [now],
      ),
    );
  return rows.map((r) => ({ ...r, points: 1, point_id: '', bytes: 0, items: 0 }));
}

/** Rows of the estate as of a moment with their points counted, and the newest of them. */
export async function pointsThen(db: Knex, rows: readonly WorkloadRow[], at: number): Promise<WorkloadRow[]> {
  const living = () => db('point').where({ state: 'visible' }).where('moment', '<=', at);
  const ids = rows.map((w) => w.id);
  type Count = { workload_id: number; points: number };
  const counts = await living()
    .whereIn('workload_id', ids)
    .groupBy('workload_id')
    .select<Count[]>('workload_id', db.raw('COUNT(*) AS points'));
  const pairs = rows.flatMap((w) => (w.newestPoint ? [[w.id, w.newestPoint.moment]] : []));
  type Newest = { workload_id: number; id: string; moment: number; bytes: number; items: number };
  // two series may have a point of the same moment
  const newest = await living().whereIn(['workload_id', 'moment'], pairs).select<Newest[]>('workload_id', 'id', 'moment', 'bytes', 'items');
  const newestOf = new Map(newest.map((p) => [p.workload_id, p]));
  const countOf = new Map(counts.map((c) => [c.workload_id, Number(c.points)]));
  return rows.map((w) => {
    const found = newestOf.get(w.id);
    const newestPoint = found ? { id: found.id, moment: found.moment, bytes: found.bytes, items: found.items } : null;
    return { ...w, newestPoint, points: countOf.get(w.id) ?? 0 };
  });
}

/** What rows say, by their workload. */
function grouped<R extends { readonly workload_id: number }, V>(rows: readonly R[], valueOf: (row: R) => V): Map<number, V[]> {
  const groups = new Map<number, V[]>();
  for (const row of rows) {
    const known = groups.get(row.workload_id);
    if (known) known.push(valueOf(row));
    else groups.set(row.workload_id, [valueOf(row)]);
  }
  return groups;
}

import type { MachinePoint, Point, PointCopy, PointFacts, PointKind } from '@lithodex/contract';
import { decideByRules, type Keep, type KeepDecision, type KeptPoint } from '@lithodex/core';
import type { Knex } from 'knex';
import { fromJson, fromJsonOrNull } from '../../base/db/json';

export interface PointRow {
  readonly id: string;
  readonly series_no: number;
  readonly workload_id: number;
  readonly run_id: number;
  readonly policy_id: number | null;
  readonly rule_no: number;
  readonly ordinal: number;
  readonly moment: number;
  readonly kind: PointKind;
  readonly builds_on: string | null;
  readonly state: 'visible' | 'expired';
  readonly items: number;
  readonly files: number;
  readonly bytes: number;
  readonly read_bytes: number;
  readonly fresh: number;
  readonly stored: number;
  readonly added: number;
  readonly changed: number;
  readonly removed: number;
  readonly warnings: number;
  readonly complete: 0 | 1;
  readonly share: number;
  readonly unusual: number;
  /** What it changed in numbers, what was found in them, and what a person said of it, as JSON. */
  readonly counts: unknown;
  readonly signs: unknown;
  readonly said: unknown;
  readonly reasons: unknown;
  readonly suspect: 0 | 1;
  readonly held: 0 | 1;
  readonly held_why: string;
  readonly keep_own: unknown;
  /** Taken besides the schedule. */
  readonly extra: 0 | 1;
  readonly expired_at: number | null;
  /** What the machine was, as JSON; null for a folder tree. */
  readonly machine: unknown;
  /** By which version of the readers what is inside its items is in the catalog; 0 where it is not. */
  readonly names_inside: number;
  /** What a point of another kind says, as JSON. */
  readonly facts: unknown;
  /** Of what a storage keeps, and no target of ours: it is not in the catalog. */
  readonly onStorage?: { readonly storage: string; readonly sourceId: number };
}

export interface SeriesRow {
  readonly no: number;
  readonly id: string;
  readonly workload_id: number;
  readonly target_id: string;
  /** `log` for one of a log, which leads from point to point of the others; `files` for these. */
  readonly method: 'files' | 'log';
  readonly last_ordinal: number;
}

/** Living points of a series, oldest first. */
export function livingPoints(db: Knex, series: number): Promise<PointRow[]> {
  return db('point').where({ series_no: series, state: 'visible' }).orderBy('ordinal').select<PointRow[]>();
}

/** What retention and promises ask of the living points of a series, oldest first: without what is told of their content. */
export function keptPoints(db: Knex, series: number): Promise<PointRow[]> {
  return db('point')
    .where({ series_no: series, state: 'visible' })
    .orderBy('ordinal')
    .select<PointRow[]>(
      'id',
      'series_no',
      'workload_id',
      'policy_id',
      'rule_no',
      'ordinal',
      'moment',
      'kind',
      'builds_on',
      'suspect',
      'held',
      'keep_own',
      'extra',
    );
}

/** A point with the lock it has on one target, and what is promised to it there. */
export type LockedPoint = PointRow & { readonly locked_until: number | null; readonly promised_until: number | null };

/** The last instant there is stands for a promise that only two people take back, ms. */
export const forever = 8_640_000_000_000_000;

/** What decides over some of the points of a series on one target. */
export interface Keeper {
  readonly keep: Keep;
  /** Whose calendar long-term points are told by. */
  readonly zone: string;
  readonly ended: boolean;
}

/**
 * What retention says of each living point of a series on one target; `keeperOf` tells by what each is kept, the same object for all points of a rule. A full put together on the target stands for the same instant as the point it was made of, so both
 * count once and go together.
 */
export function decide(
  points: readonly LockedPoint[],
  keeperOf: (point: LockedPoint) => Keeper,
  now: number,
  frozen: boolean,
): Map<string, KeepDecision> {
  const madeOf = new Map(points.flatMap((p) => (p.kind === 'synthetic' && p.builds_on !== null ? [[p.id, p.builds_on] as const] : [])));
  const ids = new Set(points.map((p) => p.id));
  const own = (p: LockedPoint) => p.held === 1 || p.keep_own !== null || p.locked_until !== null || !ids.has(madeOf.get(p.id) ?? '');
  const byKeeper = new Map<Keeper, KeptPoint[]>();
  for (const p of points.filter(own)) {
    const keeper = keeperOf(p);
    const kept = {
      id: p.id,
      moment: p.moment,
      held: p.held === 1,
      suspect: p.suspect === 1,
      lockedUntil: p.locked_until ?? undefined,
      promisedUntil: p.promised_until === forever ? Infinity : (p.promised_until ?? undefined),
      extra: p.extra === 1,
      keep: fromJsonOrNull<Keep>(p.keep_own) ?? undefined,
    };
    const others = byKeeper.get(keeper);
    if (others) others.push(kept);
    else byKeeper.set(keeper, [kept]);
  }
  const rules = [...byKeeper].map(([keeper, its]) => ({ ...keeper, points: its }));
  const decided = new Map(decideByRules(rules, now, frozen).map((d) => [d.id, d]));
  for (const p of points) {
    const like = decided.get(madeOf.get(p.id) ?? '');
    if (like && !decided.has(p.id)) decided.set(p.id, { ...like, id: p.id, why: `put together on the target; its point: ${like.why}` });
  }
  return decided;
}

/** A point as the API gives it. */
export function toPoint(
  p: PointRow,
  more: { seriesId: string; copies: PointCopy[]; policy: string | null; buildsOn: number | null },
): Point {
  return {
    id: p.id,
    seriesId: more.seriesId,
    workloadId: p.workload_id,
    runId: p.run_id,
    moment: p.moment,
    kind: p.kind,
    copies: more.copies,
    policy: more.policy,
    buildsOn: more.buildsOn,
    items: p.items,
    files: p.files,
    bytes: p.bytes,
    read: p.read_bytes,
    fresh: p.fresh,
    stored: p.stored,
    added: p.added,
    changed: p.changed,
    removed: p.removed,
    warnings: p.warnings,
    complete: p.complete === 1,
    unusual: p.unusual,
    reasons: fromJson<string[]>(p.reasons),
    suspect: p.suspect === 1,
    held: p.held === 1,
    heldWhy: p.held_why,
    expired: p.state === 'expired',
    machine: fromJsonOrNull<MachinePoint>(p.machine),
    facts: listedFacts(p.facts),
    onStorage: null,
  };
}

/** What a list of points tells of each: all that is known of a server is as long as a list, and is told of one at a time. */
function listedFacts(column: unknown): PointFacts | null {
  const facts = fromJsonOrNull<PointFacts>(column);
  return facts?.kind === 'server' ? null : facts;
}

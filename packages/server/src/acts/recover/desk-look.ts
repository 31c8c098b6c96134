import { escapePath, mailStoreOn, parentPath } from '@lithodex/core';
import type { ChangesAnswer, DeskAnswer, DeskBody } from '@lithodex/contract';
import type { ItemChange, ItemChanges, TenantFacts } from '@lithodex/kinds';
import { appendAudit } from '../../base/audit/trail';
import { fromJson } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import { within, type Actor } from '../../base/http/access';
import type { Deps } from '../deps';
import { livingPoints, type PointRow } from '../../records/catalog/points';
import { itemsAt } from '../../records/catalog/tree';
import { tenantOfRow, type SystemRow } from '../../records/systems/system-rows';
import { pointFor } from '../../records/recover/point-access';
import { pointRefs } from '../../records/targets/refs';

const askMs = 120_000;
/** So many that went at once from one folder went together. */
const together = 3;

interface Went {
  readonly from: number;
  readonly to: number | null;
}

/** Between which points each item went. */
async function whenGone(deps: Deps, point: PointRow, items: readonly ItemChange[]): Promise<Map<string, Went>> {
  const points = await livingPoints(deps.db, point.series_no);
  const rows = await itemsAt(
    deps.db,
    point.series_no,
    items.map((i) => i.path),
    point.ordinal,
  );
  const found = new Map<string, Went>();
  for (const { path } of items) {
    const end = rows.get(path)?.to_ord ?? point.ordinal + 1;
    const holding = points.filter((p) => p.ordinal < end).at(-1) ?? point;
    const next = points.find((p) => p.ordinal >= end);
    found.set(path, { from: holding.moment, to: next?.moment ?? null });
  }
  return found;
}

/** What is missing, what went together first and the largest of these before the others. */
export function inGroups(items: readonly ItemChange[], when: ReadonlyMap<string, Went>): DeskAnswer['groups'] {
  const byKey = new Map<string, { went: Went; folder: string; items: ItemChange[] }>();
  const singly: ItemChange[] = [];
  for (const item of items) {
    if (item.change === 'changed') {
      singly.push(item);
      continue;
    }
    const went = when.get(item.path)!;
    const key = `${went.from} ${went.to} ${parentPath(item.path)}`;
    const group = byKey.get(key) ?? { went, folder: item.folder, items: [] };
    group.items.push(item);
    byKey.set(key, group);
  }
  const shown = (item: ItemChange) => ({ ...item, path: escapePath(item.path) });
  const newestFirst = (a: ItemChange, b: ItemChange) => (b.at ?? 0) - (a.at ?? 0);
  const groups: DeskAnswer['groups'] = [];
  for (const { went, folder, items: own } of byKey.values())
    if (own.length >= together) groups.push({ ...went, folder, together: true, items: own.sort(newestFirst).map(shown) });
    else singly.push(...own);
  groups.sort((a, b) => b.items.length - a.items.length);
  if (!singly.length) return groups;
  const all = singly.map((i) => when.get(i.path)!);
  const from = Math.min(...all.map((w) => w.from));
  return [...groups, { from, to: null, folder: '', together: false, items: singly.sort(newestFirst).map(shown) }];
}

interface Compared {
  /** Whose services are asked; null for those of whom the point is. */
  readonly workloadId: number | null;
  readonly about: string;
  readonly tops: readonly string[];
  /** Byte string. */
  readonly path: string;
  readonly whole: boolean;
  readonly own: string | null;
}

/** Has a mover compare a point of a member with what is there now; recorded in the audit trail before. Throws NOT_FOUND, NOT_NOW, POINT_GONE. */
async function compareNow(
  deps: Deps,
  actor: Actor,
  point: PointRow,
  action: string,
  wish: Compared,
): Promise<ItemChanges & { name: string }> {
  const { db, clock } = deps;
  const whose = wish.workloadId ?? point.workload_id;
  within(actor, whose);
  const workload = found(
    await db('workload')
      .where({ id: whose, kind: 'tenant' })
      .first<{ source_id: number; facts: unknown; name: string } | undefined>('source_id', 'facts', 'name'),
  );
  const system = await db('source').where({ id: workload.source_id }).whereNotNull('secret').first<SystemRow | undefined>();
  if (!system) throw new ApiError('NOT_NOW', undefined, 'The office tenant is not connected here.');
  const [ref] = await pointRefs(db, deps.secrets, [point.id]);
  if (!ref) throw new ApiError('POINT_GONE');
  const { about, tops, path, whole, own } = wish;
  const detail = JSON.stringify({
    at: point.moment,
    about,
    tops,
    ...(path && { path: escapePath(path) }),
    ...(own !== null && { own: true }),
  });
  await inTransaction(db, (trx) => appendAudit(trx, clock.now(), { actor: actor.name, action, object: workload.name, detail }));
  const { type, login, name } = fromJson<TenantFacts>(workload.facts);
  const from = tenantOfRow(deps.secrets, system, { type, login, name });
  const changes = await deps.movers.ask(
    { ask: 'itemChanges', point: ref, from, about, tops: [...tops], path, whole, own },
    askMs,
    deps.movers.bringsBackBy(system.read_by),
  );
  return { ...changes, name: workload.name };
}

/**
 * What a member had at a moment and has no more, read live, by what went together; recorded in the audit trail.
 * Throws OUTSIDE_REMIT, NOT_FOUND, NOT_NOW, POINT_GONE.
 */
export async function lookForMissing(deps: Deps, actor: Actor, { workloadId, at, about, tops }: DeskBody): Promise<DeskAnswer> {
  const { db } = deps;
  within(actor, workloadId);
  found(await db('workload').where({ id: workloadId, kind: 'tenant' }).first('id'));
  const point = await db('point')
    .where({ workload_id: workloadId, state: 'visible' })
    .where('moment', '<=', at)
    .orderBy('moment', 'desc')
    .first<PointRow | undefined>();
  if (!point) throw new ApiError('NOT_NOW', undefined, 'There is no point of that time: choose a later one.');
  const missing = await compareNow(deps, actor, point, 'desk.look', { workloadId: null, about, tops, path: '', whole: false, own: null });
  return {
    pointId: point.id,
    moment: point.moment,
    looked: missing.looked,
    gone: missing.items.length + missing.more,
    more: missing.more,
    groups: inGroups(missing.items, await whenGone(deps, point, missing.items)),
    troubles: missing.troubles,
  };
}

const order = { changed: 0, gone: 1, added: 2 } as const;

/** What a point of a member holds beside what is there now, field by field. Throws OUTSIDE_REMIT, NOT_FOUND, NOT_NOW, POINT_GONE. */
export async function changesSince(
  deps: Deps,
  actor: Actor,
  pointId: string,
  { workloadId, path, about, own }: ChangesWish,
): Promise<ChangesAnswer> {
  const point = await pointFor(deps.db, pointId, actor);
  const { name, items, ...rest } = await compareNow(deps, actor, point, 'desk.compare', {
    workloadId,
    about,
    tops: [],
    path,
    // how a store names its folders and marks its messages is its own
    whole: !mailStoreOn(path),
    own,
  });
  return {
    ...rest,
    workload: { id: workloadId ?? point.workload_id, name },
    moment: point.moment,
    items: items
      .map((i) => ({ ...i, path: escapePath(i.path) }))
      .sort((a, b) => order[a.change] - order[b.change] || (b.at ?? 0) - (a.at ?? 0) || a.label.localeCompare(b.label)),
  };
}

type ChangesWish = Pick<Compared, 'workloadId' | 'path' | 'about' | 'own'>;

import { escapePath, parentPath } from '@lithodex/core';
import type { DeskAnswer, DeskBody } from '@lithodex/contract';
import type { MissingItem, TenantFacts } from '@lithodex/kinds';
import { appendAudit } from '../../base/audit/trail';
import { fromJson } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import { within, type Actor } from '../../base/http/access';
import type { Deps } from '../deps';
import { livingPoints, type PointRow } from '../../records/catalog/points';
import { itemsAt } from '../../records/catalog/tree';
import { tenantOfRow, type SystemRow } from '../../records/systems/system-rows';
import { pointRefs } from '../../records/targets/refs';

const askMs = 120_000;
/** So many that went at once from one folder went together. */
const together = 3;

interface Went {
  readonly from: number;
  readonly to: number | null;
}

/** Between which points each item went. */
async function whenGone(deps: Deps, point: PointRow, items: readonly MissingItem[]): Promise<Map<string, Went>> {
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
export function inGroups(items: readonly MissingItem[], when: ReadonlyMap<string, Went>): DeskAnswer['groups'] {
  const byKey = new Map<string, { went: Went; folder: string; items: MissingItem[] }>();
  const singly: MissingItem[] = [];
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
  const shown = (item: MissingItem) => ({ ...item, path: escapePath(item.path) });
  const newestFirst = (a: MissingItem, b: MissingItem) => (b.at ?? 0) - (a.at ?? 0);
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

/**
 * What a member had at a moment and has no more, read live, by what went together; recorded in the audit trail.
 * Throws OUTSIDE_REMIT, NOT_FOUND, NOT_NOW, POINT_GONE.
 */
export async function lookForMissing(deps: Deps, actor: Actor, { workloadId, at, about, tops }: DeskBody): Promise<DeskAnswer> {
  const { db, clock } = deps;
  within(actor, workloadId);
  const workload = found(
    await db('workload')
      .where({ id: workloadId, kind: 'tenant' })
      .first<{ source_id: number; facts: unknown; name: string } | undefined>('source_id', 'facts', 'name'),
  );
  const point = await db('point')
    .where({ workload_id: workloadId, state: 'visible' })
    .where('moment', '<=', at)
    .orderBy('moment', 'desc')
    .first<PointRow | undefined>();
  if (!point) throw new ApiError('NOT_NOW', undefined, 'There is no point of that time: choose a later one.');
  const system = await db('source').where({ id: workload.source_id }).whereNotNull('secret').first<SystemRow | undefined>();
  if (!system) throw new ApiError('NOT_NOW', undefined, 'The office tenant is not connected here.');
  const [ref] = await pointRefs(db, deps.secrets, [point.id]);
  if (!ref) throw new ApiError('POINT_GONE');
  await inTransaction(db, (trx) =>
    appendAudit(trx, clock.now(), {
      actor: actor.name,
      action: 'desk.look',
      object: workload.name,
      detail: JSON.stringify({ at, about, tops }),
    }),
  );
  const { type, login, name } = fromJson<TenantFacts>(workload.facts);
  const from = tenantOfRow(deps.secrets, system, { type, login, name });
  const missing = await deps.movers.ask(
    { ask: 'missingItems', point: ref, from, about, tops },
    askMs,
    deps.movers.bringsBackBy(system.read_by),
  );
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

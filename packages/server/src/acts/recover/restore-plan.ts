import { baseName, escapePath, readPrice } from '@lithodex/core';
import type { Body, MachinePoint, PriceTable, RestorePlan } from '@lithodex/contract';
import { fromJson, fromJsonOrNull } from '../../base/db/json';
import type { Deps } from '../deps';
import { ApiError } from '../../base/errors';
import type { Actor } from '../../base/http/access';
import { shownPlace } from '../../records/targets/target-rows';
import { leadsInside } from '../../records/recover/inside-path';
import { measuredRate, readRate } from '../../records/runs/measured-rates';
import { cartridgeCheck } from './cartridge-check';
import { plannerFor } from '../kinds/planner-for';
import { resolvePicks, type ResolvedPick } from './resolve-picks';
import { expectedOf, type Check, type Rescue } from './restore-planner';
import { scanChecks } from '../trust/scan-checks';

/** What a restore would do, checked against the destination as it is now, with what it would bring back. Throws NOT_ALLOWED for a clerk, or somebody for themselves, who wants it elsewhere. */
export async function planRestore(
  deps: Deps,
  body: Body<'planRestore'>,
  actor: Actor,
): Promise<{ readonly plan: RestorePlan; readonly picks: readonly ResolvedPick[]; readonly rescue: Rescue | null }> {
  const { destination } = body;
  const back = (destination.to === 'original' && !destination.removeFirst) || destination.to === 'member';
  const onlyBack = actor.role === 'clerk' || actor.role === 'asker';
  if (onlyBack && !back) throw new ApiError('NOT_ALLOWED', undefined, 'You may restore to the original place only.');
  const picks = await resolvePicks(deps, body, actor);
  if (!picks.length) throw new ApiError('INVALID', [{ at: 'body.picks' }], 'Nothing is picked. Nothing was changed.');
  // another folder of the same person may be chosen, never another person
  if (onlyBack && destination.to === 'member' && picks.some((p) => p.point.workload_id !== destination.workloadId))
    throw new ApiError('NOT_ALLOWED', undefined, 'You may restore to where it came from only, and to no other person.');
  checkSnapshots(body, picks);
  const names = new Map((await deps.db('workload').select<{ id: number; name: string }[]>('id', 'name')).map((w) => [w.id, w.name]));
  const { items, bytes } = expectedOf(picks);
  const measured = await measuredRate(deps.db);
  const planner = plannerFor(body, picks);
  const looked = await planner.look(deps, body, picks);
  const rescue = (await planner.rescue?.(deps, body, picks)) ?? null;
  const cartridges = await cartridgeCheck(deps, picks);
  const plan: RestorePlan = {
    items: picks.slice(0, 500).map((p) => ({
      pick: { pointId: p.point.id, path: escapePath(p.path) },
      name: escapePath(p.path === '' ? (names.get(p.point.workload_id) ?? '/') : baseName(p.path)),
      kind: p.kind,
      workload: names.get(p.point.workload_id) ?? '',
      moment: p.point.moment,
      goesTo: looked.goesTo(p),
      size: p.size,
      items: p.items,
      suspect: p.point.suspect === 1,
      workloadId: p.point.workload_id,
      workloadKind: p.workloadKind,
      disks: p.path ? [] : (fromJsonOrNull<MachinePoint>(p.point.machine)?.disks ?? []).map(({ label, size }) => ({ label, size })),
    })),
    total: { items, files: items, bytes, picks: picks.length },
    ...(await placesOf(deps, picks, measured.rate)),
    estimateMs: measured.rate ? Math.round((bytes / measured.rate) * 1000) : null,
    rate: measured.rate,
    rateFrom: measured.from,
    checks: [
      ...pointChecks(picks),
      ...(await scanChecks(deps.db, picks, body.despiteInfected || body.trial)),
      ...looked.checks,
      ...(rescue && !body.rescue ? [noRescue] : []),
      ...(cartridges ? [cartridges] : []),
    ],
    existing: looked.existing ?? { looked: 0, exist: 0, newer: 0, complete: true },
    free: looked.free ?? null,
    ...(looked.application && { application: looked.application }),
    rescue: rescue && {
      workload: rescue.workload,
      target: (await deps.db('target').where({ id: rescue.targetId }).first<{ name: string }>('name')).name,
    },
  };
  return { plan, picks, rescue: body.rescue ? rescue : null };
}

const noRescue: Check = {
  level: 'look',
  code: 'NO_RESCUE',
  text: 'No point is taken first: what was written since the newest point is lost with what is replaced.',
};

/** Where the picked points are read, and where all of them could be. */
async function placesOf(
  deps: Deps,
  picks: readonly ResolvedPick[],
  slowest: number | null,
): Promise<Pick<RestorePlan, 'readFrom' | 'copies' | 'price'>> {
  type Target = Parameters<typeof shownPlace>[0] & { id: string; name: string; prices: unknown };
  const rows = await deps.db('target').select<Target[]>('id', 'name', 'folder', 'address', 'prices');
  const targets = new Map(rows.map((t) => [t.id, t]));
  const points = new Map<string, Set<string>>();
  for (const p of picks) {
    const name = targets.get(p.ref.target.id)?.name ?? p.point.onStorage?.storage ?? '';
    points.set(name, (points.get(name) ?? new Set()).add(p.point.id));
  }
  const { bytes } = expectedOf(picks);
  const everywhere = rows.filter(({ id }) => picks.every((p) => [p.ref.target, ...p.ref.others].some((t) => t.id === id)));
  const tables = new Map(rows.flatMap((r) => (r.prices === null ? [] : [[r.id, fromJson<PriceTable>(r.prices)] as const])));
  const copies = await Promise.all(
    everywhere.map(async (row) => {
      const { id, name } = row;
      const rate = await readRate(deps.db, id);
      // what it is written to takes its time too
      const least = rate === null ? null : Math.min(rate, slowest ?? rate);
      return {
        targetId: id,
        target: name,
        kind: shownPlace(row).kind,
        estimateMs: least === null ? null : Math.round((bytes / least) * 1000),
        price: priceOf(picks, () => tables.get(id)),
      };
    }),
  );
  return {
    readFrom: [...points].map(([target, ids]) => ({ target, points: ids.size })),
    copies,
    price: priceOf(picks, (p) => tables.get(p.ref.target.id)),
  };
}

/** Price of reading picks, as if nothing were compressed. One currency at a time: the first that is met. */
function priceOf(picks: readonly ResolvedPick[], tableOf: (pick: ResolvedPick) => PriceTable | undefined): RestorePlan['price'] {
  const priced = picks.flatMap((p) => {
    const table = tableOf(p);
    return table ? [{ table, bytes: p.size, requests: p.items }] : [];
  });
  const currency = priced[0]?.table.currency;
  if (currency === undefined) return null;
  const same = priced.filter((p) => p.table.currency === currency);
  return { currency, amount: same.reduce((sum, p) => sum + readPrice(p.bytes, p.requests, p.table), 0) };
}

/** Throws INVALID for what can't be had from a snapshot that a storage keeps. */
function checkSnapshots({ destination }: Body<'planRestore'>, picks: readonly ResolvedPick[]): void {
  const kept = picks.filter((p) => p.point.onStorage);
  if (!kept.length) return;
  const refuse = (text: string) => new ApiError('INVALID', [{ at: 'body.picks' }], `${text} Nothing was changed.`);
  if (new Set(kept.map((p) => p.point.onStorage?.sourceId)).size > 1) throw refuse('Snapshots of several platforms are restored apart.');
  const whole = kept.some((p) => leadsInside(p.point, p.path) !== 'into');
  if (whole && ['original', 'platform', 'running'].includes(destination.to))
    throw refuse('A machine or a disk comes back from a target: copy the snapshot to one first. Files in it come back from here.');
}

function pointChecks(picks: readonly ResolvedPick[]): Check[] {
  const storages = [...new Set(picks.flatMap((p) => p.point.onStorage?.storage ?? []))];
  const suspect = picks.some((p) => p.point.suspect === 1);
  const complete = picks.every((p) => p.point.complete === 1);
  return [
    ...(storages.length
      ? [
          {
            level: 'fine',
            code: 'ON_STORAGE',
            text: `Read from ${storages.join(', ')}: no sums of ours stand over what a storage keeps.`,
          } as const,
        ]
      : []),
    ...(suspect ? [{ level: 'look', code: 'SUSPECT', text: 'Some items come from a point that looks damaged.' } as const] : []),
    complete
      ? { level: 'fine', code: 'COMPLETE', text: 'Every point used is complete.' }
      : { level: 'look', code: 'PARTS_MISSING', text: 'A point did not see everything: what it could not read is not in it.' },
  ];
}

/** Throws INVALID when a check forbids the start. */
export function refuseStops(plan: RestorePlan): void {
  const stop = plan.checks.find((c) => c.level === 'stop');
  if (stop) throw new ApiError('INVALID', { check: stop.code }, `${stop.text} Nothing was changed.`);
}

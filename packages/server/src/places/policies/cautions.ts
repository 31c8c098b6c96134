import { countOf, formatBytes, formatFirst, spreadGaps, spreadOf, type Standing } from '@lithodex/core';
import type { Consequences, Hardware, PolicyBody } from '@lithodex/contract';
import { fromJson } from '../../base/db/json';
import type { Deps } from '../../acts/deps';
import type { Known } from '../../acts/estate/estate';
import { shownPlace, type TargetRow } from '../../records/targets/target-rows';

type Warnings = Consequences['warnings'];

/** A mover keeps so many bytes for each block of a disk while it reads it, and for each item of a folder tree. */
const perBlock = 33;
const blockBytes = 65_536;
const perItem = 512;
/** Of a mover's memory, what one task may take before it is worth a word. */
const share = 0.25;
/** What a first full takes of the size of its data where nothing was measured. */
const usualReduction = 0.5;
const mostNamed = 5;

const listed = (names: readonly string[]) => formatFirst(names, mostNamed);

/** What is asked of the sources, the movers and the targets before a draft can keep what it says. */
export async function cautionsOf(
  deps: Deps,
  ids: readonly number[],
  body: PolicyBody,
): Promise<Pick<Consequences, 'warnings' | 'spreadGaps'>> {
  const wanted = new Set(ids);
  const workloads = (await deps.estate.workloads()).filter((w) => wanted.has(w.id));
  const used = [...new Set(body.rules.flatMap((r) => [r.targetId, ...r.copies.map((c) => c.targetId)]))];
  const targets = await deps.db('target').whereIn('id', used).select<TargetRow[]>();
  const warnings = [...notQuiet(workloads), ...(await memoryNeeded(deps, workloads)), ...(await firstRoom(deps, workloads, body, targets))];
  return { warnings, spreadGaps: gapsOf(workloads, body, targets) };
}

function notQuiet(workloads: readonly Known[]): Warnings {
  const loud = workloads.filter(({ machine: m, inside }) => m?.running && !m.template && !m.helper && inside === null);
  if (!loud.length) return [];
  const have =
    loud.length === 1
      ? 'has neither a helper nor an account inside, so its disks are'
      : 'have neither a helper nor an account inside, so their disks are';
  return [{ code: 'NOT_QUIET', text: `${listed(loud.map((w) => w.name))} ${have} taken as after a loss of power.` }];
}

/** What the largest of the workloads takes of a mover's memory. */
async function memoryNeeded(deps: Deps, workloads: readonly Known[]): Promise<Warnings> {
  const rows = await deps.db('mover').whereIn('name', deps.movers.present()).select<{ hardware: unknown }[]>('hardware');
  const least = Math.min(...rows.map((r) => fromJson<Hardware>(r.hardware).memory));
  if (!Number.isFinite(least)) return [];
  const ids = workloads.map((w) => w.id);
  const items = await deps
    .db('workload_points')
    .where('items', '>', (least * share) / perItem)
    .whereIn('workload_id', ids)
    .select<{ workload_id: number; items: number }[]>('workload_id', 'items');
  const large = [
    ...items.map((p) => ({ id: p.workload_id, what: countOf(p.items, 'item'), bytes: p.items * perItem })),
    ...workloads.flatMap(({ id, machine }) => {
      const size = Math.max(0, ...(machine?.disks ?? []).map((d) => d.size));
      return [{ id, what: `a disk of ${formatBytes(size)}`, bytes: (size / blockBytes) * perBlock }];
    }),
  ];
  const most = large.reduce((a, b) => (b.bytes > a.bytes ? b : a), { id: 0, what: '', bytes: 0 });
  if (most.bytes <= least * share) return [];
  const { name } = workloads.find((w) => w.id === most.id)!;
  const text = `${name} has ${most.what}, which takes about ${formatBytes(most.bytes)} of a mover's memory; the smallest that is there has ${formatBytes(least)}.`;
  return [{ code: 'MEMORY', text }];
}

/** What has no point on a target yet has to find room there in full. */
async function firstRoom(deps: Deps, workloads: readonly Known[], body: PolicyBody, targets: readonly TargetRow[]): Promise<Warnings> {
  const ids = workloads.map((w) => w.id);
  const sizes = new Map(
    (
      await deps.db('workload_points').whereIn('workload_id', ids).select<{ workload_id: number; bytes: number }[]>('workload_id', 'bytes')
    ).map((p) => [p.workload_id, p.bytes]),
  );
  const warnings: Warnings = [];
  for (const targetId of new Set(body.rules.map((r) => r.targetId))) {
    const target = targets.find((t) => t.id === targetId);
    if (target?.free == null) continue;
    const there = await deps
      .db('series')
      .where({ target_id: targetId })
      .where('last_ordinal', '>', 0)
      .whereIn('workload_id', ids)
      .select<{ workload_id: number }[]>('workload_id');
    const known = new Set(there.map((s) => s.workload_id));
    const fresh = workloads.filter((w) => !known.has(w.id));
    const sizeOf = (w: Known) => sizes.get(w.id) ?? (w.machine?.disks ?? []).reduce((sum, d) => sum + d.size, 0);
    const needed = fresh.reduce((sum, w) => sum + sizeOf(w), 0) * usualReduction;
    if (needed > target.free)
      warnings.push({
        code: 'FIRST_ROOM',
        text: `The first points of ${countOf(fresh.length, 'workload')} may take ${formatBytes(needed)} on ${target.name}, which has ${formatBytes(target.free)} free.`,
      });
  }
  return warnings;
}

/** What the worst placed workload lacks to three copies, two kinds of media, one elsewhere and one locked. */
function gapsOf(workloads: readonly Known[], { rules }: PolicyBody, targets: readonly TargetRow[]): string[] {
  const locked = new Set(rules.flatMap((r) => [r, ...r.copies]).flatMap((r) => (r.lockDays ? [r.targetId] : [])));
  const standings = targets.map((t): Standing => {
    const media = shownPlace(t).kind;
    // a lock on a disk is kept by the store alone, so it does not count as one that nobody can break
    return { media, location: t.location, locked: media === 'bucket' && locked.has(t.id) };
  });
  const gaps = [...new Set(workloads.map((w) => w.source.location))].map((origin) => spreadGaps(spreadOf(standings, origin)));
  return gaps.reduce((worst, g) => (g.length > worst.length ? g : worst), []);
}

import { compareTrees, sameContent, sameEntry, type TreeChange, type TreeEntry } from '@lithodex/engine';
import type { OpenPoint } from '../connector';
import { entryAt } from '../machines/capture-machine';
import { machinePoint } from '../machines/machine-content';
import { openDisk } from '../machines/open-disk';
import type { InsideTree } from './inside-tree';

/** A difference inside the disks of a machine, or that nothing is known any more of what is inside one. Paths are byte strings below the point. */
export type ChangeInside =
  | TreeChange
  | { readonly change: 'opened'; readonly disk: string; readonly tree: InsideTree }
  | { readonly change: 'closed'; readonly disk: string };

/** Paths of the disks that a point holds. */
export function disksIn(point: Pick<OpenPoint, 'root'>): string[] {
  return (machinePoint(point.root)?.disks ?? []).flatMap(({ file }) => (file === '' ? [] : [file]));
}

/**
 * What differs inside the disks of two points of a machine; without an earlier one everything is new. Nothing is read where all disks are stored alike. Throws what a store or disk fails with;
 * volumes that can't be read are told as not looked at.
 */
export async function* changesInside(before: OpenPoint | undefined, now: OpenPoint): AsyncGenerator<ChangeInside> {
  const disks = disksIn(now);
  const earlier = before ? disksIn(before) : [];
  for (const disk of earlier) if (!disks.includes(disk)) yield { change: 'closed', disk };
  if (before && (await storedAlike(before, now, disks))) return;
  for (const disk of disks) {
    const newer = await openDisk(now, disk);
    yield { change: 'opened', disk, tree: newer };
    const older = before && earlier.includes(disk) ? await openDisk(before, disk) : undefined;
    const by = { older: older?.trees ?? newer.trees, newer: newer.trees, isSame: sameInside, skipsSame: false };
    yield* compareTrees(by, older?.top, newer.top, disk);
  }
}

/** Whether every disk is stored as it was: volumes may lie on several. */
async function storedAlike(before: OpenPoint, now: OpenPoint, disks: readonly string[]): Promise<boolean> {
  for (const disk of disks) {
    const [was, is] = [await entryAt(before.store.trees, before.top, disk), await entryAt(now.store.trees, now.top, disk)];
    if (!was || !is || !sameContent(was, is) || String(was.ranges) !== String(is.ranges)) return false;
  }
  return true;
}

/** Contents inside are told apart by place, size and times: what was written in their place without a new time is not noticed. */
function sameInside(a: TreeEntry, b: TreeEntry): boolean {
  return sameEntry(a, b) && (a.kind === 'folder' || a.ctimeNs === b.ctimeNs);
}

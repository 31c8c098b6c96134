import type { MachinePoint } from '@lithodex/contract';
import { fromJsonOrNull } from '../../base/db/json';
import type { PointRow } from '../catalog/points';

/** Paths of the items of a point that hold trees of their own. */
export function openingItems(point: Pick<PointRow, 'machine'>): string[] {
  return (fromJsonOrNull<MachinePoint>(point.machine)?.disks ?? []).flatMap(({ file }) => (file === '' ? [] : [file]));
}

/** Whether a path leads to or into an item that holds a tree of its own. */
export function leadsInside(point: Pick<PointRow, 'machine'>, path: string): 'to' | 'into' | undefined {
  const items = openingItems(point);
  if (items.includes(path)) return 'to';
  return items.some((item) => path.startsWith(`${item}/`)) ? 'into' : undefined;
}

import { mostOn, type DiskLayout, type Layout, type NewMachine, type NewPartition } from './layout';

const mebibyte = 1 << 20;

/** Bytes that no partition of a disk takes; below 0 where they take more than there is. */
export function leftOn(layout: Layout, disk: NewMachine['disks'][number]): number {
  const taken = layout.disks.find((d) => d.disk === disk.id)?.partitions.reduce((sum, p) => sum + p.bytes, 0) ?? 0;
  return mostOn(disk) - taken;
}

/** Where a volume stands in a layout; undefined where it has no place. */
export function placeOfVolume(layout: Layout, device: string): { readonly disk: string; readonly bytes: number } | undefined {
  for (const { disk, partitions } of layout.disks) {
    const found = partitions.find((p) => 'volume' in p.for && p.for.volume === device);
    if (found) return { disk, bytes: found.bytes };
  }
  return undefined;
}

/**
 * A layout with a volume on another disk, or as large as `bytes`, in whole MiB; on no disk where `disk` is null. On the disk it stood on it keeps its turn, on another one it comes last. Partitions follow one another
 * without a gap, so that none overlap; whether the disk takes them is for the checks to say.
 */
export function placeVolume(layout: Layout, device: string, disk: string | null, bytes: number): Layout {
  const isOwn = (p: NewPartition) => 'volume' in p.for && p.for.volume === device;
  const size = Math.max(1, Math.round(bytes / mebibyte)) * mebibyte;
  const own: NewPartition = { no: 0, start: 0, bytes: size, for: { volume: device } };
  const known = layout.disks.some((d) => d.disk === disk) || disk === null ? layout.disks : [...layout.disks, emptyDisk(disk)];
  const disks = known.map((d): DiskLayout => {
    const at = d.partitions.findIndex(isOwn);
    const others = d.partitions.filter((p) => !isOwn(p));
    const partitions = d.disk === disk ? others.toSpliced(at < 0 ? others.length : at, 0, own) : others;
    return { ...d, table: 'gpt', partitions: inTurn(partitions) };
  });
  const without = layout.without.filter((d) => d !== device);
  return {
    asItWas: false,
    disks: disks.filter((d) => d.partitions.length > 0),
    without: disk === null ? [...without, device] : without,
  };
}

const emptyDisk = (disk: string): DiskLayout => ({ disk, table: 'gpt', partitions: [] });

function inTurn(partitions: readonly NewPartition[]): NewPartition[] {
  let start = mebibyte;
  return partitions.map((p, i): NewPartition => {
    const placed = { ...p, no: i + 1, start };
    start += p.bytes;
    return placed;
  });
}

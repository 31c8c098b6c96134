/** A stretch of a disk, in bytes. */
export type DiskRange = readonly [offset: number, length: number];

/** Ranges in order, widened to whole blocks (the last block of a disk may be shorter), those that touch put together. */
export function alignRanges(ranges: readonly DiskRange[], block: number, size: number): DiskRange[] {
  const aligned: [number, number][] = [];
  for (const [offset, length] of [...ranges].sort((a, b) => a[0] - b[0])) {
    if (length <= 0 || offset >= size) continue;
    const from = Math.floor(offset / block) * block;
    const to = Math.min(size, Math.ceil((offset + length) / block) * block);
    const last = aligned.at(-1);
    if (last && from <= last[0] + last[1]) last[1] = Math.max(last[1], to - last[0]);
    else aligned.push([from, to - from]);
  }
  return aligned;
}

/** Deals ranges out into batches of at most `bytes`, a multiple of the block they are aligned to. */
export function batchRanges(ranges: readonly DiskRange[], bytes: number): DiskRange[][] {
  const batches: DiskRange[][] = [];
  let room = 0;
  for (const [offset, length] of ranges)
    for (let at = 0; at < length;) {
      if (room === 0) {
        batches.push([]);
        room = bytes;
      }
      const count = Math.min(length - at, room);
      batches.at(-1)!.push([offset + at, count]);
      at += count;
      room -= count;
    }
  return batches;
}

/** Bytes in all. */
export function lengthOf(ranges: readonly DiskRange[]): number {
  return ranges.reduce((sum, [, length]) => sum + length, 0);
}

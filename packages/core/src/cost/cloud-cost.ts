/** Hours of a month where prices are per hour: a year's hours by twelve. */
const monthHours = 8766 / 12;
const gb = 1e9;

/** A size that machines in a cloud can have; `memory` in MB. */
export interface CloudSize {
  readonly name: string;
  readonly processors: number;
  readonly memory: number;
  readonly perHour: number;
}

/** What a machine needs; `memory` in MB. What nobody knows is 0. */
export interface CloudNeed {
  readonly processors: number;
  readonly memory: number;
}

export interface CloudMonth {
  readonly size: number;
  readonly disks: number;
  readonly address: number;
  readonly total: number;
}

/** The sizes that have as much as is needed, the cheapest first. */
export function fittingSizes<S extends CloudSize>(sizes: readonly S[], need: CloudNeed): S[] {
  return sizes
    .filter((s) => s.processors >= need.processors && s.memory >= need.memory)
    .sort((a, b) => a.perHour - b.perHour || a.processors - b.processors || a.memory - b.memory || (a.name < b.name ? -1 : 1));
}

/** What a size costs that runs all the time, a month. */
export function sizeMonth({ perHour }: Pick<CloudSize, 'perHour'>): number {
  return perHour * monthHours;
}

/** What a machine costs a month that runs all the time. Disks are paid for at their full size, in bytes, used or not. */
export function cloudMonth(
  size: Pick<CloudSize, 'perHour'>,
  disks: readonly { readonly size: number; readonly perGBMonth: number }[],
  addressPerMonth: number,
): CloudMonth {
  const own = sizeMonth(size);
  const kept = disks.reduce((sum, d) => sum + (d.size / gb) * d.perGBMonth, 0);
  return { size: own, disks: kept, address: addressPerMonth, total: own + kept + addressPerMonth };
}

import { isOfSystem } from './judge-parts';
import { comesBack, isPartitionOf, neededBy, type VolumeNeeded } from './replacement';
import type { SystemFacts, VolumeFacts } from './system-facts';

const mebibyte = 1 << 20;
/** Partitions begin and end at whole MiB; the first and the last of a disk are left to its table. */
const edge = mebibyte;
/** For the loader of a BIOS on a disk with a GPT, and for that of UEFI where there was none. */
export const loaderBytes = { bios: 2 * mebibyte, uefi: 256 * mebibyte } as const;
/** Type of a partition for the loader of a BIOS on a disk with a GPT. */
export const biosBoot = '21686148-6449-6e6f-744e-656564454649';
/** An MBR counts sectors in 32 bits, and four partitions. */
export const mostOfMbr = 2 ** 32 * 512;

/** A disk of the machine that takes the place, as it reported in. Told apart by `id`, which is its serial or where it is plugged in; never by a number. */
export interface NewDisk {
  readonly id: string;
  readonly bytes: number;
  readonly serial: string;
  /** The machine starts from it first. */
  readonly first: boolean;
  /** What is on it now, in words; '' for nothing. */
  readonly holds: string;
}

/** A partition that is to be made. */
export interface NewPartition {
  readonly no: number;
  readonly start: number;
  readonly bytes: number;
  /** Device of the old volume that comes back on it, or the loader that it is for. */
  readonly for: { readonly volume: string } | { readonly loader: 'bios' | 'uefi' };
}

export interface DiskLayout {
  readonly disk: string;
  readonly table: 'gpt' | 'mbr';
  readonly partitions: readonly NewPartition[];
}

/** Which partitions are made on which disk, and which volumes get no place. */
export interface Layout {
  /** Each disk is as one of before was. */
  readonly asItWas: boolean;
  readonly disks: readonly DiskLayout[];
  readonly without: readonly string[];
}

export interface NewMachine {
  readonly firmware: 'uefi' | 'bios';
  readonly disks: readonly NewDisk[];
}

/** Volumes that come back, with what each needs at least: those the system starts from first. */
export function volumesBack(system: SystemFacts): VolumeNeeded[] {
  const all = system.volumes.filter(comesBack).map((v) => neededBy(v, system.kernels.length));
  const rank = ({ volume }: VolumeNeeded) => (volume.mount === '/' ? 1 : isOfSystem(volume) ? 0 : volume.fileSystem === 'swap' ? 2 : 3);
  return all
    .map((n, i) => [n, i] as const)
    .sort(([a, i], [b, j]) => rank(a) - rank(b) || i - j)
    .map(([n]) => n);
}

/**
 * A layout that needs no further thought: as it was, where each old disk has one in its place that is large enough and the machine starts the same way; otherwise volume by volume, what the system
 * starts from on the disk that starts first, each as large as it was, or as much smaller as it has to be, never below what it needs. Sizes in bytes.
 */
export function proposeLayout(system: SystemFacts, machine: NewMachine): Layout {
  return sameLayout(system, machine) ?? packed(system, machine);
}

/** Pairs old disks with new ones: by serial, else the smallest that is large enough. */
function sameLayout(system: SystemFacts, { firmware, disks }: NewMachine): Layout | undefined {
  const back = volumesBack(system);
  if (firmware !== system.firmware || back.some(({ volume }) => volume.layer !== 'partition')) return undefined;
  const own = system.disks.filter((d) => back.some(({ volume }) => volume.on.some((on) => isPartitionOf(on, d.name))));
  const left = [...disks];
  const made: DiskLayout[] = [];
  for (const old of own) {
    const fits = left.filter((d) => d.bytes >= old.bytes).sort((a, b) => a.bytes - b.bytes);
    const starts = back.some(({ volume }) => volume.mount === '/' && volume.on.some((on) => isPartitionOf(on, old.name)));
    const found = fits.find((d) => d.serial !== '' && d.serial === old.serial) ?? fits.find((d) => d.first === starts);
    if (!found || old.table === 'none' || (starts && !found.first)) return undefined;
    left.splice(left.indexOf(found), 1);
    const partitions = old.partitions.flatMap(({ no, start, bytes, type }): NewPartition[] => {
      const volume = back.find((n) => n.volume.on.some((on) => isPartitionOf(on, old.name) && numberOf(on) === no));
      const loads = type.toLowerCase() === biosBoot;
      return volume
        ? [{ no, start, bytes, for: { volume: volume.volume.device } }]
        : loads
          ? [{ no, start, bytes, for: { loader: 'bios' } }]
          : [];
    });
    made.push({ disk: found.id, table: old.table, partitions });
  }
  return made.length ? { asItWas: true, disks: made, without: [] } : undefined;
}

const numberOf = (partition: string) => Number(/\d+$/.exec(partition)?.[0] ?? 0);
const up = (bytes: number) => Math.ceil(bytes / mebibyte) * mebibyte;
const down = (bytes: number) => Math.floor(bytes / mebibyte) * mebibyte;

interface Share {
  readonly for: NewPartition['for'];
  readonly least: number;
  readonly wanted: number;
}

/** Bytes that partitions of a disk may take. */
export const mostOn = (disk: Pick<NewDisk, 'bytes'>): number => down(disk.bytes - 2 * edge);

function packed(system: SystemFacts, { firmware, disks }: NewMachine): Layout {
  const back = volumesBack(system).filter(({ volume }) => !isForOtherFirmware(volume, firmware));
  const order = [...disks].sort((a, b) => Number(b.first) - Number(a.first) || b.bytes - a.bytes);
  const shares = new Map<string, Share[]>(order.map((d) => [d.id, []]));
  const leastOn = (d: NewDisk) => shares.get(d.id)!.reduce((sum, s) => sum + s.least, 0);
  const first = order.find((d) => d.first);
  const loader = loaderOf(back, firmware);
  if (loader && first) shares.get(first.id)!.push(loader);
  const without: string[] = [];
  for (const { volume, least } of back) {
    const share: Share = { for: { volume: volume.device }, least: up(least.bytes), wanted: Math.max(up(least.bytes), down(volume.bytes)) };
    // data stays off the disk that the system starts from, where another one takes it
    const candidates = isOfSystem(volume)
      ? order.filter((d) => d.first)
      : volume.fileSystem === 'swap'
        ? order
        : [...order].sort((a, b) => Number(a.first) - Number(b.first));
    const free = (d: NewDisk) => mostOn(d) - leastOn(d);
    const found = candidates.find((d) => free(d) >= share.wanted) ?? candidates.find((d) => free(d) >= share.least);
    if (found) shares.get(found.id)!.push(share);
    else without.push(volume.device);
  }
  const made = order.flatMap((disk): DiskLayout[] => {
    const own = shares.get(disk.id)!;
    return own.length ? [{ disk: disk.id, table: 'gpt', partitions: laidOut(own, mostOn(disk)) }] : [];
  });
  return { asItWas: false, disks: made, without };
}

/** What only the other firmware starts from: an EFI system volume is of no use to a BIOS. */
const isForOtherFirmware = (v: VolumeFacts, firmware: NewMachine['firmware']) =>
  firmware === 'bios' && v.fileSystem === 'vfat' && isOfSystem(v);

function loaderOf(back: readonly VolumeNeeded[], firmware: NewMachine['firmware']): Share | undefined {
  if (firmware === 'uefi' && back.some(({ volume }) => volume.fileSystem === 'vfat' && isOfSystem(volume))) return undefined;
  const bytes = loaderBytes[firmware];
  return { for: { loader: firmware }, least: bytes, wanted: bytes };
}

/** Partitions one after another: each gets what it needs, and of the rest as much as it had, by what it lacks. */
function laidOut(shares: readonly Share[], room: number): NewPartition[] {
  const least = shares.reduce((sum, s) => sum + s.least, 0);
  const lacks = shares.reduce((sum, s) => sum + s.wanted - s.least, 0);
  const part = lacks > 0 ? Math.min(1, (room - least) / lacks) : 0;
  let start = edge;
  return shares.map((s, i): NewPartition => {
    const bytes = s.least + down((s.wanted - s.least) * part);
    const made = { no: i + 1, start, bytes, for: s.for };
    start += bytes;
    return made;
  });
}

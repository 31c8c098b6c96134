import { formatBytes } from '../text/format';
import { isOfSystem } from './judge-parts';
import { mostOfMbr, volumesBack, type DiskLayout, type Layout, type NewMachine, type NewPartition } from './layout';
import type { VolumeNeeded } from './replacement';
import type { SystemFacts } from './system-facts';

const mebibyte = 1 << 20;
export interface RebuildCheck {
  readonly code:
    | 'NOTHING_PLACED'
    | 'OUT_OF_DISK'
    | 'OVERLAP'
    | 'VOLUME_TIGHT'
    | 'SYSTEM_NOT_PLACED'
    | 'SYSTEM_NOT_FIRST'
    | 'NO_LOADER'
    | 'TABLE_TOO_SMALL'
    | 'VOLUME_LEFT_OUT'
    | 'VOLUME_SMALLER'
    | 'DISK_NOT_EMPTY'
    | 'OTHER_PROCESSOR'
    | 'BIOS'
    | 'MEMORY_SMALL'
    | 'NO_DRIVER'
    | 'FEWER_CARDS'
    | 'CLOCK_WRONG';
  /** stop: it would fail; agree: somebody has to want it. */
  readonly level: 'stop' | 'agree';
  readonly text: string;
}

const stop = (code: RebuildCheck['code'], text: string): RebuildCheck => ({ code, level: 'stop', text });
const agree = (code: RebuildCheck['code'], text: string): RebuildCheck => ({ code, level: 'agree', text });
const nameOf = ({ volume }: VolumeNeeded) => volume.mount || volume.fileSystem;

/** What stands against a layout, or has to be wanted, each with its numbers; empty where it can begin. */
export function checkLayout(system: SystemFacts, machine: NewMachine, layout: Layout): RebuildCheck[] {
  const back = volumesBack(system);
  const places = new Map<string, { readonly disk: string; readonly partition: NewPartition }>();
  for (const { disk, partitions } of layout.disks)
    for (const partition of partitions) if ('volume' in partition.for) places.set(partition.for.volume, { disk, partition });
  return [
    ...layout.disks.flatMap((d) => onDisk(machine, d)),
    ...back.flatMap((needed) => ofVolume(machine, layout, needed, places.get(needed.volume.device))),
    ...ofLoader(system, machine, layout),
  ];
}

function onDisk({ disks }: NewMachine, { disk: id, table, partitions }: DiskLayout): RebuildCheck[] {
  const disk = disks.find((d) => d.id === id);
  if (!disk) return [stop('OUT_OF_DISK', `Disk ${id} is not in the machine.`)];
  const found: RebuildCheck[] = [];
  const order = [...partitions].sort((a, b) => a.start - b.start);
  const room = disk.bytes - (table === 'gpt' ? mebibyte : 0);
  for (const [i, p] of order.entries()) {
    const end = p.start + p.bytes;
    if (p.bytes <= 0 || p.start < mebibyte || end > room)
      found.push(
        stop('OUT_OF_DISK', `Partition ${p.no} of ${id} ends at ${formatBytes(end)}; the disk has room for ${formatBytes(room)}.`),
      );
    const next = order[i + 1];
    if (next && end > next.start)
      found.push(stop('OVERLAP', `Partitions ${p.no} and ${next.no} of ${id} overlap by ${formatBytes(end - next.start)}.`));
    if (table === 'mbr' && end > mostOfMbr)
      found.push(
        stop('TABLE_TOO_SMALL', `Partition ${p.no} of ${id} ends beyond ${formatBytes(mostOfMbr)}, which an MBR can not say. Use a GPT.`),
      );
  }
  if (table === 'mbr' && partitions.length > 4)
    found.push(stop('TABLE_TOO_SMALL', `An MBR takes four partitions; ${id} would have ${partitions.length}.`));
  if (partitions.length && disk.holds) found.push(agree('DISK_NOT_EMPTY', `${id} is not empty: ${disk.holds}. All of it will be gone.`));
  return found;
}

function ofVolume(
  machine: NewMachine,
  layout: Layout,
  needed: VolumeNeeded,
  place: { readonly disk: string; readonly partition: NewPartition } | undefined,
): RebuildCheck[] {
  const { volume, least } = needed;
  const own = isOfSystem(volume);
  if (!place) {
    if (own && volume.fileSystem === 'vfat' && machine.firmware === 'bios') return [];
    if (own)
      return [
        stop('SYSTEM_NOT_PLACED', `${nameOf(needed)} has no place: it needs ${formatBytes(least.bytes)} on the disk that starts first.`),
      ];
    return [
      agree('VOLUME_LEFT_OUT', `${nameOf(needed)} is left out: it needs ${formatBytes(least.bytes)}, and can be brought back later.`),
    ];
  }
  const found: RebuildCheck[] = [];
  const { bytes } = place.partition;
  const wide = layout.asItWas && bytes >= volume.bytes;
  if (bytes < least.bytes && !wide)
    found.push(
      stop(
        'VOLUME_TIGHT',
        `${nameOf(needed)} gets ${formatBytes(bytes)}; ${formatBytes(least.bytes)} is the least: ${formatBytes(least.content)} of content, ${formatBytes(least.staging + least.room)} to put it together and to work, ${formatBytes(least.own)} for the file system.`,
      ),
    );
  // what was no whole MiB is one less
  else if (volume.bytes - bytes >= mebibyte && volume.fileSystem !== 'swap')
    found.push(
      agree(
        'VOLUME_SMALLER',
        `${nameOf(needed)} gets ${formatBytes(bytes)} instead of ${formatBytes(volume.bytes)}; ${formatBytes(bytes - least.content)} are left to grow.`,
      ),
    );
  const disk = machine.disks.find((d) => d.id === place.disk);
  if (own && disk && !disk.first)
    found.push(stop('SYSTEM_NOT_FIRST', `${nameOf(needed)} lies on ${disk.id}, which the machine does not start from first.`));
  return found;
}

function ofLoader(system: SystemFacts, { firmware, disks }: NewMachine, layout: Layout): RebuildCheck[] {
  if (!layout.disks.length) return [stop('NOTHING_PLACED', 'No volume has a place.')];
  const first = layout.disks.find((d) => disks.some((n) => n.first && n.id === d.disk));
  const loads = first?.partitions.some((p) => 'loader' in p.for && p.for.loader === firmware) ?? false;
  const efi = first?.partitions.some((p) => {
    const device = 'volume' in p.for ? p.for.volume : undefined;
    return system.volumes.some((v) => v.device === device && v.fileSystem === 'vfat' && isOfSystem(v));
  });
  const starts = firmware === 'uefi' ? loads || efi === true : loads || first?.table === 'mbr';
  const how = firmware === 'uefi' ? 'UEFI needs an EFI volume' : 'a BIOS needs a small partition for its loader';
  return starts ? [] : [stop('NO_LOADER', `The disk that starts first has no place for the loader: ${how} there.`)];
}

import fs from 'node:fs';
import { setTimeout } from 'node:timers/promises';
import { countOf, formatList, isPartitionOf, partitionScript, type DiskLayout } from '@lithodex/core';
import type { ServerDisk, ServerVolume, UnitDisk, UnitFacts } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import { hardwareOfHost, type Hardware } from '../system/hardware';
import { readDisks, readMounts } from '../system/read-disks';
import { runProgram } from './run-program';
import { clearHalfMade, halfMadeBy, knownOf, markHalfMade } from './half-made';
import { makePlaces } from './staged-tree';
import type { UnitDisksBegun, UnitHands } from './unit-hands';
import type { Order } from './unit-messages';
import { identityOf, namesOf, partitionName } from './write-disks';

const appearsMs = 10_000;
const lookEveryMs = 100;

/** What a machine says of itself, and by which device each of its disks is reached. What the medium runs from is none of them. */
export function unitFactsOf(
  hardware: Hardware,
  clock: number,
  serialOf: (disk: string) => string,
): { readonly facts: UnitFacts; readonly deviceOf: ReadonlyMap<string, string> } {
  const { disks, volumes } = readDisks(hardware.blocks, readMounts(hardware.mounts), () => false);
  const on = (disk: ServerDisk) => volumes.filter((v) => v.on.some((name) => name === disk.name || isPartitionOf(name, disk.name)));
  const free = disks.filter((d) => !on(d).some((v) => v.mount !== '' || v.fileSystem === 'iso9660'));
  const deviceOf = new Map<string, string>();
  const own = free.map((disk, i): UnitDisk => {
    const serial = disk.serial || serialOf(disk.name);
    const wanted = (serial || disk.port || disk.name).slice(0, 70);
    const id = deviceOf.has(wanted) ? `${wanted} ${disk.name}` : wanted;
    deviceOf.set(id, disk.name);
    const { bytes, model, port } = disk;
    // firmware does not tell which one it would start from: it is the first that the kernel finds
    return { id, bytes, serial, model, port, first: i === 0, holds: holdsOf(disk, on(disk)) };
  });
  const { architecture, processor, cores, memory, cards, controllers } = hardware;
  const firmware = hardware.firmware === 'bios' ? 'bios' : 'uefi';
  return { facts: { firmware, architecture, processor, cores, memory, disks: own, cards, controllers, clock }, deviceOf };
}

function holdsOf({ partitions }: ServerDisk, volumes: readonly ServerVolume[]): string {
  const known = volumes.map((v) => `${v.label ? `“${v.label}”, ` : ''}${v.fileSystem}`);
  if (!partitions.length) return formatList(known);
  return `${countOf(partitions.length, 'partition')}${known.length ? `: ${formatList(known)}` : ''}`;
}

const factsNow = async () => unitFactsOf(await hardwareOfHost(), Date.now(), serialInKernel);

/** What the kernel itself says of a disk, where nobody else keeps it. */
function serialInKernel(disk: string): string {
  const file = `/sys/block/${disk}/serial`;
  return fs.existsSync(file) ? fs.readFileSync(file, 'latin1').trim() : '';
}

/** The hands of a machine that was started from the recovery medium. `mounts`: a folder in memory under which its volumes are mounted. */
export class MetalHands implements UnitHands {
  constructor(private readonly mounts: string) {}

  async facts(): Promise<UnitFacts> {
    return (await factsNow()).facts;
  }

  async halfMade(): Promise<ReadonlyMap<string, string>> {
    const { deviceOf } = await factsNow();
    return knownOf([...deviceOf].map(([id, name]) => [id, halfMadeBy(`/dev/${name}`)]));
  }

  async begin(order: Order, phase: (name: string) => void): Promise<UnitDisksBegun> {
    const { deviceOf } = await factsNow();
    const begun = new MetalDisks(order, deviceOf, this.mounts);
    try {
      await begun.prepare(phase);
    } catch (error) {
      await begun.giveUp();
      throw error;
    }
    return begun;
  }
}

class MetalDisks implements UnitDisksBegun {
  private readonly mounted: { readonly device: string; readonly folder: string; readonly volume: ServerVolume }[] = [];
  private readonly partitionOf = new Map<string, string>();

  constructor(
    private readonly order: Order,
    private readonly deviceOf: ReadonlyMap<string, string>,
    private readonly mounts: string,
  ) {}

  private deviceFor(disk: string): string {
    const name = this.deviceOf.get(disk);
    if (name === undefined) throw new SourceError('REBUILD_FAILED', `the disk ${disk} is not there any more`);
    return `/dev/${name}`;
  }

  async prepare(phase: (name: string) => void): Promise<void> {
    const { layout, system, asItself } = this.order;
    phase('partitioning');
    for (const disk of layout) {
      const device = this.deviceFor(disk.disk);
      await this.forget(device);
      markHalfMade(device, this.order.taskId);
      const script = partitionScript(disk, system, identityOf(system, disk, asItself));
      await runProgram('sfdisk', ['--quiet', '--wipe', 'always', '--wipe-partitions', 'always', device], script);
    }
    phase('formatting');
    for (const disk of layout) await this.format(disk);
  }

  /** Nothing on it is recognised from then on. */
  private async forget(device: string): Promise<void> {
    await runProgram('wipefs', ['--all', '--force', device]);
  }

  private async format({ disk, partitions }: DiskLayout): Promise<void> {
    for (const { no, for: what } of partitions) {
      if (!('volume' in what)) continue;
      const volume = this.order.system.volumes.find((v) => v.device === what.volume);
      if (!volume) throw new SourceError('REBUILD_FAILED', `the point knows no volume ${what.volume}`);
      const device = partitionName(this.deviceFor(disk), no);
      await appears(device);
      await makeFileSystem(device, volume, this.order.asItself);
      this.partitionOf.set(volume.device, device);
    }
  }

  async folderOf(device: string): Promise<string | undefined> {
    const partition = this.partitionOf.get(device);
    const volume = this.order.system.volumes.find((v) => v.device === device);
    if (partition === undefined || !volume || volume.fileSystem === 'swap') return undefined;
    const folder = `${this.mounts}/${this.mounted.length}`;
    fs.mkdirSync(folder, { recursive: true });
    // what a FAT can not hold of owners and rights is passed over
    await runProgram('mount', ['-t', volume.fileSystem, ...(volume.fileSystem === 'vfat' ? ['-o', 'quiet'] : []), partition, folder]);
    this.mounted.push({ device: partition, folder, volume });
    return folder;
  }

  async finish(): Promise<void> {
    for (const { folder, volume } of this.mounted) if (volume.mount === '/') makePlaces(folder);
    const written = [...this.mounted];
    await this.unmount();
    for (const { device, volume } of written) if (volume.fileSystem.startsWith('ext')) await runProgram('e2fsck', ['-fn', device]);
    await runProgram('sync', []);
    for (const { disk } of this.order.layout) clearHalfMade(this.deviceFor(disk));
  }

  async giveUp(): Promise<void> {
    // what can not be let go of is made unrecognisable all the same
    await this.unmount().catch(() => undefined);
    for (const { disk } of this.order.layout) {
      await this.forget(this.deviceFor(disk));
      clearHalfMade(this.deviceFor(disk));
    }
  }

  private async unmount(): Promise<void> {
    for (const { folder } of this.mounted.splice(0).reverse()) await runProgram('umount', [folder]);
  }
}

async function makeFileSystem(device: string, volume: ServerVolume, asItself: boolean): Promise<void> {
  const named = namesOf(volume, asItself);
  switch (volume.fileSystem) {
    case 'ext2':
    case 'ext3':
    case 'ext4':
      await runProgram('mke2fs', ['-q', '-F', '-t', volume.fileSystem, ...named, device]);
      return;
    case 'vfat':
      await runProgram('mkfs.vfat', [...named, device]);
      return;
    case 'swap':
      await runProgram('mkswap', ['--quiet', ...named, device]);
      return;
    default:
      throw new SourceError(
        'REBUILD_FAILED',
        `${volume.mount} is ${volume.fileSystem || 'of no known file system'}, which can not be made anew`,
      );
  }
}

/** Waits for a device that the kernel was just told of. */
async function appears(device: string): Promise<void> {
  const until = Date.now() + appearsMs;
  while (!fs.existsSync(device)) {
    if (Date.now() > until) throw new SourceError('REBUILD_FAILED', `the partition ${device} did not appear`);
    await setTimeout(lookEveryMs);
  }
}

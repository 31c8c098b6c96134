import { isOfSystem } from './judge-parts';
import { leastSize, type LeastSize } from './least-size';
import type { SystemFacts, VolumeFacts } from './system-facts';

const mebibyte = 1 << 20;
/** Between partitions and at both ends of a disk: they begin at whole MiB, and a GPT stands twice. */
const besides = 4 * mebibyte;
/** With so much the recovery medium was tried: a machine of 512 MiB, whose kernel keeps some of it. */
export const leastMemory = 448 * mebibyte;
/** Of an initramfs with modules for any hardware, as Debian makes it; for each kernel the new one stands beside the old one. */
const initramfsBytes = 64 * mebibyte;

/** A volume for loaders is small, and no smaller one is sure to be read by every firmware. */
const smallBytes = 1 << 30;

export interface VolumeNeeded {
  readonly volume: VolumeFacts;
  readonly least: LeastSize;
}

export interface DiskNeeded {
  /** The disk as it is now. */
  readonly now: { readonly name: string; readonly bytes: number; readonly serial: string; readonly model: string; readonly port: string };
  /** Bytes that a disk in its place needs at least. */
  readonly least: number;
  readonly volumes: readonly VolumeNeeded[];
  readonly system: boolean;
}

/** What a machine needs that takes the place of a server. */
export interface Replacement {
  readonly disks: readonly DiskNeeded[];
  readonly memory: { readonly now: number; readonly least: number };
  readonly firmware: 'uefi' | 'bios' | 'unknown';
  readonly architecture: string;
  readonly processor: string;
  readonly cores: number;
  /** Drivers that serve storage and network now, each with what it serves: hardware that needs others needs them on the medium. */
  readonly drivers: readonly { readonly driver: string; readonly serves: readonly string[] }[];
  /** What has no driver, as what is passed through to it may. */
  readonly undriven: readonly string[];
  /** Volumes that hold nothing of it, as stores of backups: not to be attached before it is back. */
  readonly notYet: readonly VolumeFacts[];
}

/** Whether a volume is one of its own that comes back: formatted, and with files in the point, or swap. */
export const comesBack = (v: VolumeFacts) => v.fileSystem === 'swap' || (v.taken && v.mount !== '');

/** A volume with the least size that it comes back to: swap, and small ones that a firmware reads, as large as they are. */
export function neededBy(volume: VolumeFacts, kernels: number): VolumeNeeded {
  const asItIs = volume.fileSystem === 'swap' || (volume.fileSystem === 'vfat' && volume.bytes <= smallBytes);
  if (asItIs) return { volume, least: { bytes: volume.bytes, content: volume.bytes, staging: 0, room: 0, own: 0 } };
  const staging = volume.mount === '/' ? kernels * initramfsBytes : 0;
  return { volume, least: leastSize(volume.used ?? volume.bytes, staging) };
}

/** What to buy or free when the machine is gone. Volumes over several disks count on the first of them. */
export function replacementFor(system: SystemFacts): Replacement {
  const all = system.volumes.filter(comesBack).map((v) => neededBy(v, system.kernels.length));
  const diskOf = (v: VolumeFacts) => system.disks.find((d) => v.on.some((on) => on === d.name || isPartitionOf(on, d.name)))?.name;
  const disks = system.disks
    .map((disk): DiskNeeded => {
      const volumes = all.filter((n) => diskOf(n.volume) === disk.name);
      return {
        now: { name: disk.name, bytes: disk.bytes, serial: disk.serial, model: disk.model, port: disk.port },
        least: besides + volumes.reduce((sum, n) => sum + n.least.bytes + mebibyte, 0),
        volumes,
        system: volumes.some((n) => isOfSystem(n.volume)),
      };
    })
    .filter((d) => d.volumes.length);
  const served = new Map<string, string[]>();
  for (const { name, driver } of [...system.controllers, ...system.cards])
    if (driver) served.set(driver, [...(served.get(driver) ?? []), name]);
  return {
    disks,
    memory: { now: system.memory, least: leastMemory },
    firmware: system.firmware,
    architecture: system.architecture,
    processor: system.processor,
    cores: system.cores,
    drivers: [...served].map(([driver, serves]) => ({ driver, serves })).sort((a, b) => (a.driver < b.driver ? -1 : 1)),
    undriven: [...system.controllers, ...system.cards].filter((c) => !c.driver).map((c) => c.name),
    notYet: system.volumes.filter((v) => !comesBack(v) && v.mount !== ''),
  };
}

/** Whether a kernel's name is that of a partition of a disk: sda1 of sda, nvme0n1p2 of nvme0n1. */
export function isPartitionOf(name: string, disk: string): boolean {
  if (!name.startsWith(disk)) return false;
  return (/\d$/.test(disk) ? /^p\d+$/ : /^\d+$/).test(name.slice(disk.length));
}

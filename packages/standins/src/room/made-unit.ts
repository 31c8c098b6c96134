import { spawnSync } from 'node:child_process';
import fs from 'node:fs';
import path from 'node:path';

const mebibyte = 1 << 20;
/** Of what is left on a disk, however large that is. */
const mostLeft = 4096 * mebibyte;

/** A disk of a unit; `label` names the old system that somebody left on it. */
export interface MadeUnitDisk {
  readonly id: string;
  readonly bytes: number;
  readonly port: string;
  readonly first: boolean;
  readonly label?: string;
  readonly failsAt?: number;
}

/** A machine that waits in a machine room, made up: started from the recovery medium, its disks files. */
export interface MadeUnit {
  readonly firmware: 'uefi' | 'bios';
  readonly architecture?: string;
  readonly memory: number;
  readonly disks: readonly MadeUnitDisk[];
  /** Names of the cards that have a driver, and of those that have none. */
  readonly cards: readonly string[];
  readonly undriven?: readonly string[];
}

/** Makes the disks of a unit in a folder, as files of holes, and returns the file that says what the unit is. Needs sfdisk and mke2fs for what is left on a disk. */
export function makeUnit(folder: string, unit: MadeUnit): string {
  fs.rmSync(folder, { recursive: true, force: true });
  fs.mkdirSync(folder, { recursive: true });
  const disks = unit.disks.map((disk) => {
    const file = path.join(folder, `${disk.id}.img`);
    fs.writeFileSync(file, '', { mode: 0o600 });
    fs.truncateSync(file, disk.bytes);
    if (disk.label !== undefined) leaveSystem(file, disk.bytes, disk.label);
    const { id, port, first, failsAt = null } = disk;
    return { id, file, serial: id, model: 'made up', port, first, failsAt };
  });
  const card = (name: string, driver: string, i: number) => ({
    name,
    driver,
    mac: `02:00:5e:00:53:${(0x10 + i).toString(16)}`,
    addresses: driver ? [`192.0.2.${200 + i}/24`] : [],
  });
  const facts = {
    firmware: unit.firmware,
    architecture: unit.architecture ?? 'x86_64',
    processor: 'Made-up processor, 8 cores',
    cores: 8,
    memory: unit.memory,
    cards: [...unit.cards.map((name, i) => card(name, 'nx1', i)), ...(unit.undriven ?? []).map((name, i) => card(name, '', 8 + i))],
    controllers: [{ name: 'storage 1af4:1001', driver: 'virtio_blk' }],
  };
  const room = path.join(folder, 'unit.json');
  fs.writeFileSync(room, JSON.stringify({ facts, disks, work: path.join(folder, 'work') }));
  return room;
}

/** A table with one volume of that name. */
function leaveSystem(file: string, bytes: number, label: string): void {
  const size = Math.min(bytes, mostLeft) - 2 * mebibyte;
  const script = `label: gpt\n1 : start=2048, size=${size / 512}\n`;
  spawnSync('sfdisk', ['--quiet', file], { input: script });
  spawnSync('mke2fs', ['-q', '-F', '-t', 'ext4', '-L', label, '-E', `offset=${mebibyte}`, file, `${size / 1024}k`]);
}

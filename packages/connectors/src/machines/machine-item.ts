import type { ConsistencyLevel, MachineSettings, PlatformDisk } from './platform-types';

/** Name of the item of a point that holds the settings of the machine. */
export const settingsItem = 'machine.json';
/** Folder of the disks. */
export const disksFolder = 'disks';

/** The settings of a machine as a point keeps them. */
export interface StoredMachine extends MachineSettings {
  readonly format: 1;
  readonly id: string;
  readonly cluster: string;
  /** Where that is; '' where nobody said. */
  readonly location: string;
  readonly level: ConsistencyLevel;
  /** `file`: path of its item, '' where the disk was left out. */
  readonly disks: readonly (PlatformDisk & { readonly file: string })[];
}

/** Names of the files of disks: their labels, told apart by a number where two are the same. */
export function diskFiles(disks: readonly PlatformDisk[]): string[] {
  const taken = new Set<string>();
  return disks.map(({ label }) => {
    const base = Buffer.from(label, 'utf8').toString('latin1').replace(/[/\0]/g, '_').replace(/^\.+$/, '_') || 'disk';
    let name = `${base}.raw`;
    for (let n = 2; taken.has(name); n++) name = `${base}-${n}.raw`;
    taken.add(name);
    return name;
  });
}

/** Throws RangeError for what is no settings of a machine. */
export function readStoredMachine(data: Buffer): StoredMachine {
  const machine = JSON.parse(data.toString()) as StoredMachine;
  if (machine.format !== 1) throw new RangeError('settings of a machine in a format this version does not know');
  return machine;
}

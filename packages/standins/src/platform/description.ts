/** What a platform is made of, as people arranged it. */
export interface ClusterDescription {
  readonly name: string;
  readonly location: string;
  readonly hosts: readonly string[];
  readonly networks: readonly string[];
  /** Those of its networks that lead nowhere else. */
  readonly isolated?: readonly string[];
}

export interface StorageDescription {
  readonly name: string;
  /** Bytes. */
  readonly capacity: number;
  /** The hosts that see it. */
  readonly hosts: readonly string[];
  /** Whether programs are told where its disks lie, to read and write them there. */
  readonly straight?: boolean;
}

/** Firmware, processors and the like: what a restore has to give a machine back. */
export interface MachineSettings {
  readonly processors: number;
  /** MB. */
  readonly memory: number;
  readonly firmware: 'efi' | 'bios';
  readonly system: string;
  readonly networks: readonly string[];
  readonly note: string;
}

export interface MachinePlace {
  readonly host: string;
  /** Path like `/Harbour/Gates`. */
  readonly folder: string;
}

export interface DiskDescription {
  readonly label: string;
  /** Bytes. */
  readonly size: number;
  readonly storage: string;
}

export interface MachineDescription extends MachineSettings, MachinePlace {
  readonly name: string;
  readonly tags: readonly string[];
  readonly template: boolean;
  readonly running: boolean;
  /** A helper inside can bring file systems and programs to rest for a snapshot. */
  readonly helper: boolean;
  /** What runs inside, as its helper tells. */
  readonly services?: readonly string[];
  readonly disks: readonly DiskDescription[];
}

/** An account of the system inside a machine. */
export interface InsideAccount {
  readonly name: string;
  readonly password: string;
}

export const platformRights = [
  'inventory.read',
  'snapshot.manage',
  'disk.read',
  'disk.write',
  'machine.create',
  'machine.remove',
  'machine.power',
  'guest.quiesce',
  'guest.files',
] as const;
export type PlatformRight = (typeof platformRights)[number];

export interface AccountDescription {
  readonly name: string;
  readonly password: string;
  /** ms; null for never. */
  readonly passwordEnds: number | null;
  /** SHA-256 fingerprint of a certificate that is let in too; null for none. */
  readonly certificate: string | null;
  readonly rights: readonly PlatformRight[];
}

export interface PlatformDescription {
  readonly clusters: readonly ClusterDescription[];
  readonly storages: readonly StorageDescription[];
  readonly accounts: readonly AccountDescription[];
}

import type { CloudOffers, MachineFacts } from '@lithodex/kinds';

/** Where a platform is and what opens it. */
export interface PlatformAddress {
  /** Like `https://host:port`. */
  readonly endpoint: string;
  readonly opener:
    | { readonly by: 'password'; readonly account: string; readonly password: string }
    /** PEM, with the key that belongs to it. */
    | { readonly by: 'certificate'; readonly certificate: string; readonly key: string };
}

/** An account of the system inside a machine. */
export interface InsideAccount {
  readonly name: string;
  readonly password: string;
}

export type Range = readonly [offset: number, length: number];

export interface PlatformDisk {
  readonly id: string;
  readonly label: string;
  /** Bytes. */
  readonly size: number;
  /** '' while it lies in the network. */
  readonly storage: string;
  /** Of one that lies in the network: where it is copied to, and how far that is, in bytes. */
  readonly elsewhere?: { readonly storage: string | null; readonly done: number; readonly of: number; readonly whole: boolean };
}

/** A block device in the network, and what opens it. */
export interface NetworkDisk {
  readonly host: string;
  readonly port: number;
  readonly name: string;
  readonly user: string;
  /** Hexadecimal. */
  readonly key: string;
}

/** What a machine is, apart from what its disks hold. */
export interface MachineSettings {
  readonly name: string;
  readonly host: string;
  readonly folder: string;
  readonly tags: readonly string[];
  readonly template: boolean;
  readonly running: boolean;
  readonly helper: boolean;
  readonly processors: number;
  /** MB. */
  readonly memory: number;
  readonly firmware: 'efi' | 'bios';
  readonly system: string;
  readonly networks: readonly string[];
  readonly note: string;
}

export interface PlatformMachine extends MachineSettings {
  readonly id: string;
  readonly disks: readonly PlatformDisk[];
  /** What runs inside, where a helper tells. */
  readonly services?: readonly string[];
  readonly snapshots: readonly { readonly id: string; readonly name: string }[];
  /** Of an instance in a cloud. */
  readonly cloud?: NonNullable<MachineFacts['cloud']>;
}

export interface PlatformInventory {
  /** Of a cloud: what can be had there. */
  readonly cloud?: CloudOffers;
  readonly clusters: readonly {
    readonly name: string;
    readonly location: string;
    readonly hosts: readonly string[];
    readonly networks: readonly string[];
    /** Those that lead nowhere else. */
    readonly isolated?: readonly string[];
  }[];
  /** What names of machines may be; absent where the platform does not say. */
  readonly naming?: { readonly most: number; readonly forbidden: string };
  readonly storages: readonly {
    readonly name: string;
    readonly capacity: number;
    readonly used: number;
    readonly hosts: readonly string[];
  }[];
  readonly machines: readonly PlatformMachine[];
  /** Those that storages keep; absent where the platform knows of none. */
  readonly snapshots?: readonly StorageSnapshot[];
}

/** All disks on a storage at one instant, as the storage keeps them. */
export interface StorageSnapshot {
  readonly id: string;
  readonly storage: string;
  readonly name: string;
  /** ms. */
  readonly takenAt: number;
  /** With all their disks: those on other storages are not in it. */
  readonly machines: readonly Omit<PlatformMachine, 'snapshots'>[];
}

/** Where a snapshot of a storage is. */
export interface SnapshotAt {
  readonly storage: string;
  readonly id: string;
}

export interface TakenSnapshot {
  readonly id: string;
  readonly level: 'crash' | 'application';
  readonly disks: readonly { readonly id: string; readonly size: number; readonly changeId: string }[];
}

/** How quiet a machine was when a point was taken of it. */
export type ConsistencyLevel = TakenSnapshot['level'];

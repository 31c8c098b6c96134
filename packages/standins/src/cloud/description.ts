export const cloudRights = ['read', 'snapshot', 'staging', 'import', 'create', 'remove', 'power', 'groups'] as const;
export type CloudRight = (typeof cloudRights)[number];

/** A client of the cloud: programs come in by OAuth 2.0 client credentials. */
export interface CloudClientDescription {
  readonly id: string;
  readonly secret: string;
  /** ms; null for never. */
  readonly secretEnds: number | null;
  readonly rights: readonly CloudRight[];
}

export interface Quota {
  readonly instances: number;
  readonly processors: number;
  /** Bytes of volumes. */
  readonly bytes: number;
}

export interface RegionDescription {
  readonly name: string;
  /** Where on earth it is. */
  readonly place: string;
  readonly networks: readonly { readonly name: string; readonly isolated: boolean }[];
  readonly groups: readonly string[];
  readonly quota: Quota;
}

/** A size that instances can have; prices are in the currency of the cloud. */
export interface SizeDescription {
  readonly name: string;
  readonly processors: number;
  /** MB. */
  readonly memory: number;
  readonly perHour: number;
}

export interface ClassDescription {
  readonly name: string;
  readonly perGBMonth: number;
  readonly regions: readonly string[];
}

export interface CloudDescription {
  readonly currency: string;
  /** Of an address that can be reached from everywhere, a month. */
  readonly addressPerMonth: number;
  readonly regions: readonly RegionDescription[];
  readonly sizes: readonly SizeDescription[];
  readonly classes: readonly ClassDescription[];
  readonly clients: readonly CloudClientDescription[];
}

export interface Volume {
  readonly id: string;
  readonly region: string;
  readonly class: string;
  readonly label: string;
  /** Bytes. */
  readonly size: number;
  readonly tags: readonly string[];
  /** The instance that has it; null for one that lies by itself. */
  readonly instance: string | null;
}

export interface Instance {
  readonly id: string;
  readonly name: string;
  readonly region: string;
  readonly size: string;
  readonly network: string;
  readonly groups: readonly string[];
  /** An address that can be reached from everywhere; null for none. */
  readonly address: string | null;
  readonly tags: readonly string[];
  readonly note: string;
  readonly system: string;
  readonly firmware: 'efi' | 'bios';
  readonly running: boolean;
  /** In the order in which it sees them. */
  readonly volumes: readonly string[];
  readonly snapshots: readonly { readonly id: string; readonly name: string }[];
}

/** What can be made to go wrong. */
export interface CloudSwitches {
  /** Time each request waits, ms. */
  readonly delayMs: number;
  readonly down: boolean;
  /** Bytes a second at which staged images become volumes; null for as fast as it goes. */
  readonly importRate: number | null;
  /** Imports end with a failure. */
  readonly importFails: boolean;
  /** Imports write other bytes than were staged in their first cluster. */
  readonly importWrong: boolean;
}

export const cloudFine: CloudSwitches = { delayMs: 0, down: false, importRate: null, importFails: false, importWrong: false };

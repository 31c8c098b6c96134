/** A disk of a server with its partitions, as the server tells; sizes in bytes. */
export interface DiskFacts {
  readonly name: string;
  readonly bytes: number;
  readonly serial: string;
  readonly model: string;
  readonly port: string;
  readonly table: 'gpt' | 'mbr' | 'none';
  readonly partitions: readonly { readonly no: number; readonly start: number; readonly bytes: number; readonly type: string }[];
}

/** A file system or swap, with the partitions and disks it lies on; sizes in bytes, `used` null where nobody could tell. */
export interface VolumeFacts {
  readonly device: string;
  readonly layer: 'disk' | 'partition' | 'logical' | 'raid' | 'sealed';
  readonly on: readonly string[];
  readonly fileSystem: string;
  readonly label: string;
  readonly bytes: number;
  readonly used: number | null;
  readonly mount: string;
  readonly taken: boolean;
}

/** What a server says of itself, as far as it is decided by. */
export interface SystemFacts {
  readonly firmware: 'uefi' | 'bios' | 'unknown';
  readonly architecture: string;
  readonly processor: string;
  readonly cores: number;
  readonly memory: number;
  readonly disks: readonly DiskFacts[];
  readonly volumes: readonly VolumeFacts[];
  readonly loader: string;
  readonly kernels: readonly { readonly version: string; readonly initramfs: boolean; readonly modules: boolean }[];
  readonly cards: readonly { readonly name: string; readonly mac: string; readonly driver: string }[];
  readonly controllers: readonly { readonly name: string; readonly driver: string }[];
  /** Parts that could not be read, with the reason. */
  readonly unread: Readonly<Record<string, string>>;
}

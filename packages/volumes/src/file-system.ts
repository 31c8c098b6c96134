export type VolumeItemKind = 'file' | 'folder' | 'link' | 'fifo' | 'char' | 'block' | 'socket';

/** An item of a file system. */
export interface VolumeItem {
  /** Byte string. */
  readonly name: string;
  readonly kind: VolumeItemKind;
  /** What it is read by again: its number in the file system. */
  readonly key: number;
  /** Bytes of a file; 0 for others. */
  readonly size: number;
  readonly mtimeNs: bigint;
  readonly ctimeNs: bigint;
  /** Permission bits with setuid, setgid and sticky. */
  readonly mode: number;
  readonly uid: number;
  readonly gid: number;
  /** Whether the file has several names. */
  readonly linked: boolean;
  readonly device?: number;
  /** Why its content can't be had, in words. */
  readonly unread?: string;
}

/** What is known of an item beyond its row in a folder. */
export interface ItemDetail {
  /** Stretches of a sparse file that hold data. */
  readonly ranges?: readonly (readonly [number, number])[];
  /** Byte string. */
  readonly linkTarget?: string;
  readonly attributes?: readonly (readonly [string, Buffer])[];
}

/** A file system that is read, never written. Everything throws DISK_DAMAGED for what can't be as it is. */
export interface FileSystem {
  /** Items of a folder in pieces, unsorted. */
  list(folder: number): AsyncGenerator<VolumeItem[]>;
  detail(item: VolumeItem): Promise<ItemDetail>;
  /** Bytes of a file. */
  read(file: number, offset: number, length: number): Promise<Buffer>;
  /** The item of the top folder; its name is ''. */
  top(): Promise<VolumeItem>;
}

/** Keeps what was made for the keys used last. */
export class Recent<T> {
  private readonly kept = new Map<number, Promise<T>>();

  constructor(
    private readonly most: number,
    private readonly make: (key: number) => Promise<T>,
  ) {}

  get(key: number): Promise<T> {
    const known = this.kept.get(key);
    if (known) {
      this.kept.delete(key);
      this.kept.set(key, known);
      return known;
    }
    const made = this.make(key);
    this.kept.set(key, made);
    made.catch(() => this.kept.delete(key));
    for (const oldest of this.kept.keys()) {
      if (this.kept.size <= this.most) break;
      this.kept.delete(oldest);
    }
    return made;
  }
}

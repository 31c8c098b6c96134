import type { Paced } from './pace';

export interface FolderPlace extends Paced {
  readonly kind: 'folder';
  /** Absolute path on the mover's host. */
  readonly folder: string;
}

/** A bucket of an object storage that speaks the S3 protocol, addressed by path. */
export interface BucketPlace extends Paced {
  readonly kind: 'bucket';
  /** Like https://objects.example:9000 */
  readonly endpoint: string;
  readonly region: string;
  readonly bucket: string;
  /** Put before every name; '' or ending in '/'. */
  readonly prefix: string;
  readonly accessKey: string;
  readonly secretKey: string;
  /** Whether the bucket keeps versions and can lock them (object lock). */
  readonly locks: boolean;
}

/** A set of cartridges in a library: those whose barcode begins alike. */
export interface CartridgePlace extends Paced {
  readonly kind: 'cartridges';
  /** Address of the library, like http://library.example:9100 */
  readonly endpoint: string;
  readonly token: string;
  /** What the barcodes of the set begin with. */
  readonly barcodes: string;
  /** Folder of the set on the movers' disk or share: what must be at hand without loading. Absolute. */
  readonly folder: string;
}

/** Where a target is and how it is reached; plain data, so that threads can be told. */
export type TargetPlace = FolderPlace | BucketPlace | CartridgePlace;

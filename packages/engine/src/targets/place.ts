import { Bucket, type BucketPlace } from './bucket';
import { Cartridges, type CartridgePlace } from './cartridges';
import { DiskFolder } from './disk-folder';
import type { Paced } from './pace';
import type { Target } from './target';

export interface FolderPlace extends Paced {
  readonly kind: 'folder';
  /** Absolute path on the mover's host. */
  readonly folder: string;
}

/** Where a target is and how it is reached; plain data, so that threads can be told. */
export type TargetPlace = FolderPlace | BucketPlace | CartridgePlace;

/** Opens the target at a place. Nothing is asked of it yet. */
export function targetAt(place: TargetPlace): Target {
  switch (place.kind) {
    case 'folder':
      return new DiskFolder(place.folder, place);
    case 'bucket':
      return new Bucket(place);
    case 'cartridges':
      return new Cartridges(place);
  }
}

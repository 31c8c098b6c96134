import { Bucket } from './bucket';
import { Cartridges } from './cartridges';
import { DiskFolder } from './disk-folder';
import type { TargetPlace } from './place';
import type { Target } from './target';

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

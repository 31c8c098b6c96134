import type { Store } from '@lithodex/engine';

/** What of a store is needed to read a point. */
export interface PointStore extends Pick<Store, 'trees'> {
  readonly reader: Pick<Store['reader'], 'read'>;
  readonly keys: Pick<Store['keys'], 'nameKey'>;
}

import type { PointRef } from '@lithodex/contract';
import { findItem, OpenedTrees, platformClient, snapshotPoint, type FoundItem, type OpenPoint } from '@lithodex/connectors';
import { EngineError, topEntry } from '@lithodex/engine';
import type { Stores } from './stores';

/** Opens points for reading, each once, however many items are read of it: opening asks the target for what is new. */
export class OpenedPoints {
  private readonly opened = new Map<string, Promise<OpenPoint>>();
  private readonly insides = new OpenedTrees();

  /** `onElsewhere`: told when what is lost on the first target was read from another one. */
  constructor(
    private readonly stores: Stores,
    private readonly onElsewhere: (target: string) => void = () => undefined,
  ) {}

  open(point: PointRef): Promise<OpenPoint> {
    const known = this.opened.get(point.taskId) ?? openPoint(this.stores, point, this.onElsewhere);
    this.opened.set(point.taskId, known);
    return known;
  }

  /** An item of a point, stored or inside an item that is. Throws PATH_MISSING. */
  async find(point: PointRef, path: string): Promise<FoundItem> {
    return findItem(await this.open(point), path, this.insides);
  }
}

/** Opens a point. Throws what its targets fail with, and OBJECT_MISSING. */
export async function openPoint(stores: Stores, point: PointRef, onElsewhere?: (target: string) => void): Promise<OpenPoint> {
  const { place } = point.target;
  if (place.kind === 'snapshot') {
    const { machine, cluster, location } = place;
    const { taskId, seriesId } = point;
    return snapshotPoint(platformClient(place.platform), place.at, { machine, cluster, location, taskId, seriesId });
  }
  const store = await stores.ofPoint(point, onElsewhere);
  const found = await store.root(point.seriesId, point.taskId);
  if (!found) throw new EngineError('OBJECT_MISSING', 'the root of the point');
  return { kept: store, store, root: found.root, top: topEntry(found.root) };
}

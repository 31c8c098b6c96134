import type { Cartridge, CartridgesNeeded, PointRef } from '@lithodex/contract';
import { Cartridges, EngineError, isAway, packsOfPoint, topEntry, type CartridgeState, type Store } from '@lithodex/engine';

/** Where a cartridge is, in words. */
function whereIs({ seen }: Pick<CartridgeState, 'seen'>): string {
  return seen ? `${seen.position.at} ${seen.position.number + 1}` : 'on the shelf';
}

function setOf({ target }: Store): Cartridges {
  if (!(target instanceof Cartridges)) throw new EngineError('TARGET_REFUSED', 'the target is no set of cartridges');
  return target;
}

/** The cartridges of a target. Throws TARGET_REFUSED when it has none. */
export async function cartridgesOf(store: Store): Promise<{ rows: Cartridge[] }> {
  const states = await setOf(store).states();
  const rows = states.map((state): Cartridge => {
    const { barcode, known, seen } = state;
    return {
      barcode,
      number: known ? known.number + 1 : null,
      where: whereIs(state),
      here: seen !== undefined,
      capacity: seen?.capacity ?? null,
      used: seen?.used ?? known?.written ?? 0,
      live: known?.live ?? 0,
      writeProtected: seen?.writeProtected ?? false,
      spent: known?.spent ?? false,
    };
  });
  return { rows };
}

/** The cartridges that hold items of a point. Throws PATH_MISSING, and TARGET_MISSING when the point was opened elsewhere because their library is away. */
export async function cartridgesNeeded(store: Store, point: PointRef, paths: readonly string[]): Promise<CartridgesNeeded> {
  if (!(store.target instanceof Cartridges)) throw new EngineError('TARGET_MISSING', 'the library of the cartridges does not answer');
  const set = store.target;
  const found = await store.root(point.seriesId, point.taskId);
  if (!found) throw new EngineError('OBJECT_MISSING', 'the root of the point');
  const barcodes = new Set<string>();
  let complete = true;
  for (const path of paths)
    try {
      const entry = await store.trees.find(topEntry(found.root), path);
      for (const pack of await packsOfPoint(store, entry, () => false)) barcodes.add((await set.barcodeOf(pack)) ?? '');
    } catch (error) {
      if (!isAway(error)) throw error;
      barcodes.add(error.details);
      complete = false;
    }
  const states = await set.states();
  return {
    needed: states.filter((s) => barcodes.has(s.barcode)).map((s) => ({ barcode: s.barcode, here: s.seen !== undefined })),
    complete,
  };
}

import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { EngineError } from '../errors';
import type { Need } from './bucket-check';
import { Cartridges } from './cartridges';
import type { CartridgePlace } from './place';

/** What a trial of a set of cartridges found. */
export interface CartridgeCheck {
  readonly needs: readonly Need[];
  readonly holdsStore: boolean;
  /** Bytes that can be written with the cartridges that are in the library. */
  readonly free: number;
}

/** Tries what a set needs, without writing on a cartridge. Throws TARGET_MISSING when the library does not answer. */
export async function checkCartridges(place: CartridgePlace): Promise<CartridgeCheck> {
  const target = new Cartridges(place);
  const needs: Need[] = [];
  let [holdsStore, free] = [false, 0];
  const need = async (right: string, neededFor: string, act: () => Promise<string>) => {
    const problem = await act().catch((error: unknown) => {
      if (!(error instanceof EngineError) || error.code === 'TARGET_MISSING') throw error;
      return error.message;
    });
    needs.push({ right, neededFor, problem });
  };
  const made = fs.existsSync(place.folder);
  await need('Write in the folder of the set', 'to have at hand what must not wait for a cartridge', async () => {
    const name = `check/${randomBytes(9).toString('hex')}`;
    await target.put(name, randomBytes(16));
    await target.remove(name);
    return '';
  });
  await need('See and load cartridges', 'to find what the set holds already', async () => {
    holdsStore = (await target.list('')).includes('lithodex-store.json');
    return '';
  });
  await need('Cartridges to write on', 'to store points', async () => {
    free = (await target.room()).free ?? 0;
    return free > 0 ? '' : `No empty cartridge that begins with ${place.barcodes} is in the library.`;
  });
  target.close();
  if (!made && !holdsStore) fs.rmSync(place.folder, { recursive: true, force: true });
  return { needs, holdsStore, free };
}

import type { InsideAccount, InsideLook, PlatformRef } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import { InsideClient, insideText, type InsideItem } from './inside-client';
import { platformClient } from './kept-clients';

/** Where volumes are mounted inside a machine that runs, and which of some places (absolute byte strings) are taken there. A refusal is an answer too. */
export async function lookInsideMachine(
  ref: PlatformRef,
  machine: string,
  account: InsideAccount | null,
  places: readonly { readonly path: string; readonly mtimeNs: string }[],
): Promise<InsideLook> {
  const look = { mounts: [] as InsideLook['mounts'], looked: places.length, exist: 0, newer: 0, refused: '' };
  const inside = new InsideClient(platformClient(ref), machine, account);
  const folders = new Map<string, Map<string, InsideItem>>();
  try {
    look.mounts = await inside.mounts();
    for (const { path, mtimeNs } of places) {
      const at = path.lastIndexOf('/');
      const folder = path.slice(0, at) || '/';
      const items = folders.get(folder) ?? new Map((await inside.list(insideText(folder)))?.map((i) => [i.name, i]));
      folders.set(folder, items);
      const there = items.get(insideText(path.slice(at + 1)));
      if (!there) continue;
      look.exist++;
      if (BigInt(Math.round(there.mtime)) * 1_000_000n > BigInt(mtimeNs)) look.newer++;
    }
    return look;
  } catch (error) {
    if (!(error instanceof SourceError)) throw error;
    return { ...look, refused: error.message };
  }
}

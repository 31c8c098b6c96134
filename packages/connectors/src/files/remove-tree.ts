import fs from 'node:fs';
import { closeFile, inFolder, openFolderBeneath } from '@lithodex/engine';
import { namesIn } from './folder-listing';

/** Removes what lies under a name in an open folder, with everything below. Links are removed, never followed, whatever happens to names meanwhile. Nothing happens where there is none. */
export function removeTree(folder: number, name: string): void {
  const at = inFolder(folder, name);
  const there = fs.lstatSync(at, { throwIfNoEntry: false });
  if (!there) return;
  if (!there.isDirectory()) {
    fs.unlinkSync(at);
    return;
  }
  const inside = openFolderBeneath(folder, name);
  try {
    for (const below of namesIn(inside)) removeTree(inside, below);
  } finally {
    closeFile(inside);
  }
  fs.rmdirSync(at);
}

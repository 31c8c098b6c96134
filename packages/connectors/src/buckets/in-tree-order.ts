import { KeyPaths } from '@lithodex/core';
import type { ListedObject } from './bucket-client';

/** An object with its place in the tree: the parts of its path with a NUL between, byte strings. */
export interface PlacedObject extends Omit<ListedObject, 'key'> {
  readonly place: string;
}

export const between = '\0';

/** Objects that were listed, in the order in which a tree holds their paths: folders right where their name stands. The pages are let go of one by one. */
export function inTreeOrder(pages: (readonly ListedObject[])[]): PlacedObject[] {
  const paths = new KeyPaths();
  const classes = new Map<string, string>();
  const placed: PlacedObject[] = [];
  let sorted = true;
  let before = '';
  for (let page = pages.shift(); page; page = pages.shift())
    for (const { key, size, mtime, etag, class: own } of page) {
      if (!classes.has(own)) classes.set(own, own);
      const place = paths.partsOf(key).join(between);
      sorted &&= before <= place;
      before = place;
      placed.push({ place, size, mtime, etag, class: classes.get(own)! });
    }
  // where `a-b` comes before `a/b` among keys, the folder `a` comes first in a tree
  return sorted ? placed : placed.sort((a, b) => (a.place < b.place ? -1 : 1));
}

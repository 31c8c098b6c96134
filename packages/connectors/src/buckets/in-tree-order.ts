import { KeyPaths } from '@lithodex/core';
import type { ListedObject } from './bucket-client';
import type { PackedPage } from './packed-page';

/** An object with its place in the tree: the parts of its path with a NUL between, byte strings. */
export interface PlacedObject extends Omit<ListedObject, 'key'> {
  readonly place: string;
}

export const between = '\0';

/** Objects that were listed, in the order in which a tree holds their paths: folders right where their name stands. */
export function* inTreeOrder<T extends PlacedObject>(pages: readonly PackedPage[], more: readonly T[] = []): Generator<PlacedObject | T> {
  if (more.length) {
    const now = Array.from(places(pages), ({ place, page, at }): PlacedObject => ({ place, ...page.facts(at) }));
    yield* [...now, ...more].sort(byPlace);
    return;
  }
  let before = '';
  let sorted = true;
  for (const { place } of places(pages)) {
    sorted = before <= place;
    if (!sorted) break;
    before = place;
  }
  // where `a-b` comes before `a/b` among keys, the folder `a` comes first in a tree
  const inOrder = sorted ? places(pages) : [...places(pages)].sort(byPlace);
  for (const { place, page, at } of inOrder) yield { place, ...page.facts(at) };
}

const byPlace = (a: { readonly place: string }, b: { readonly place: string }) => (a.place < b.place ? -1 : 1);

interface Found {
  readonly place: string;
  readonly page: PackedPage;
  readonly at: number;
}

function* places(pages: readonly PackedPage[]): Generator<Found> {
  const paths = new KeyPaths();
  for (const page of pages) for (let at = 0; at < page.length; at++) yield { place: paths.partsOf(page.key(at)).join(between), page, at };
}

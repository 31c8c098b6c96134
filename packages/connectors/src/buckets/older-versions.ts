import { itemNameOf, olderFolder } from '@lithodex/core';
import type { BucketClient, ListedVersion } from './bucket-client';
import { between, type PlacedObject } from './in-tree-order';
import { PackedPage } from './packed-page';

/** A version that is no more, with the one that took its place. */
export interface OlderVersion {
  readonly key: string;
  readonly id: string;
  readonly newer: string;
  readonly marker: boolean;
}

/** An older version with its place in the tree. */
export interface PlacedVersion extends PlacedObject {
  readonly older: OlderVersion;
}

/** What a bucket that keeps versions holds: the objects that count now, and what came before them. */
export interface ListedVersions {
  readonly pages: PackedPage[];
  readonly older: readonly PlacedVersion[];
}

/** Lists all versions of a bucket. `passed` is told each page. */
export async function listVersions(client: Pick<BucketClient, 'versions'>, passed: () => void): Promise<ListedVersions> {
  const pages: PackedPage[] = [];
  const older: PlacedVersion[] = [];
  let from: Parameters<BucketClient['versions']>[0];
  /** The one that was listed before, which is newer where it is of the same key. */
  let before: ListedVersion | undefined;
  do {
    const page = await client.versions(from);
    passed();
    // versions and marks come in two lists
    const all = page.versions.map((v, i) => [v, i] as const).sort(([a, i], [b, j]) => order(a, b) || i - j);
    const now: ListedVersion[] = [];
    for (const [v] of all) {
      if (v.latest && !v.marker) now.push(v);
      // a mark that counts now tells since when it is gone
      else older.push(placed(v, before?.key === v.key ? before.id : ''));
      before = v;
    }
    if (now.length) pages.push(new PackedPage(now));
    from = page.next;
  } while (from);
  return { pages, older };
}

/** Keys ascending by their bytes, of one key the latest first and older ones behind. */
function order(a: ListedVersion, b: ListedVersion): number {
  if (a.key !== b.key) return Buffer.compare(Buffer.from(a.key), Buffer.from(b.key));
  return a.latest !== b.latest ? Number(b.latest) - Number(a.latest) : b.mtime - a.mtime;
}

function placed({ key, id, marker, mtime, size, etag, class: own }: ListedVersion, newer: string): PlacedVersion {
  const place = [...olderParts(key), itemNameOf(`${new Date(mtime).toISOString()} ${id}`)].join(between);
  return { place, size, mtime, etag, class: own, older: { key, id, newer, marker } };
}

const partName = (part: string) => (part === '' ? '~' : itemNameOf(part));

/** Parts of the path of the folder that holds the older versions of a key. */
export function olderParts(key: string): string[] {
  const parts = key.split('/').map(partName);
  return [olderFolder, ...parts.slice(0, -1), `${parts.at(-1)!}~`];
}

/** Path of the folder that holds older versions of all keys that begin with a prefix: one that ends in `/`, or none. */
export const olderBelow = (prefix: string): string => [olderFolder, ...prefix.split('/').slice(0, -1).map(partName)].join('/');

/** What a rule that leaves something out is asked about an older version: about the object it is of, which may be gone. Undefined for the folder of all. */
export function ruledAs(path: string, isFolder: boolean): { readonly path: string; readonly isFolder: boolean } | undefined {
  const below = path.slice(olderFolder.length + 1);
  const own = isFolder ? below : below.slice(0, Math.max(0, below.lastIndexOf('/')));
  if (own === '') return undefined;
  return own.endsWith('~') ? { path: own.slice(0, -1), isFolder: false } : { path: own, isFolder: true };
}

import { itemNameOf, objectNameOf } from './item-name';

/**
 * Gives the objects of a bucket paths in a tree. A key is text in which `/` parts folders, yet `a` may stand beside `a/b`, and a part may be empty or dots: what is no name of an
 * item is escaped as {@link itemNameOf} does, an empty part is `~`, and a folder beside an object of the same name gets a `~` behind it. {@link keyOfPath} leads back.
 */
export class KeyPaths {
  /** Keys that came and that others may still go on from, each the beginning of the next. */
  private readonly begun: string[] = [];

  /** Parts of the path of a key, byte strings. Keys come in the order of their bytes. */
  partsOf(key: string): string[] {
    const { begun } = this;
    while (begun.length && !key.startsWith(begun.at(-1)!)) begun.pop();
    const parts = key.split('/');
    let at = 0;
    const names = parts.map((part, i) => {
      at += part.length;
      const isFolder = i < parts.length - 1;
      const twin = isFolder && begun.length > 0 && begun.includes(key.slice(0, at));
      at++;
      return (part === '' ? '~' : itemNameOf(part)) + (twin ? '~' : '');
    });
    begun.push(key);
    return names;
  }
}

/** The key of a path as {@link KeyPaths} gave it: text. */
export function keyOfPath(path: string): string {
  return path
    .split('/')
    .map((name) => objectNameOf(name.replace(/~+$/, '')))
    .join('/');
}

/** The folder at the top of a point that holds older versions of objects: no part of a key is escaped to that. */
export const olderFolder = '~versions';

/** Whether a path is that of an older version, or of a folder of some. */
export const isOlder = (path: string): boolean => path === olderFolder || path.startsWith(`${olderFolder}/`);

/** The key that an older version is of, by its path: versions lie in a folder of the name of their object, with a `~` behind it. */
export const keyOfOlder = (path: string): string => keyOfPath(path.split('/').slice(1, -1).join('/'));

/** Orders texts by their bytes as UTF-8, as object storages list keys. */
export function byUtf8(a: string, b: string): number {
  const length = Math.min(a.length, b.length);
  for (let i = 0; i < length; i++) {
    const [x, y] = [a.charCodeAt(i), b.charCodeAt(i)];
    if (x === y) continue;
    // halves of characters beyond the first plane come after all others
    const [high, low] = [x >= 0xd800 && x <= 0xdfff, y >= 0xd800 && y <= 0xdfff];
    return high === low ? x - y : high ? 1 : -1;
  }
  return a.length - b.length;
}

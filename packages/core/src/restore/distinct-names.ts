import { besideName } from './conflict';

/**
 * Names for items that come to stand in one folder: the first of a name keeps it, later ones get the stamp of the point they come from,
 * and a number where that is not enough. Names are byte strings; the result has no two alike and the order of the input.
 */
export function distinctNames(items: readonly { readonly name: string; readonly stamp: string }[]): string[] {
  const taken = new Set<string>();
  return items.map(({ name, stamp }) => {
    let result = name;
    for (let attempt = 1; taken.has(result); attempt++) result = besideName(name, stamp, attempt);
    taken.add(result);
    return result;
  });
}

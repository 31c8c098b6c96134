/** Items by what `keyOf` gives for each, in their order. */
export function byKey<T, K>(items: Iterable<T>, keyOf: (item: T) => K): Map<K, T[]> {
  const found = new Map<K, T[]>();
  for (const item of items) {
    const key = keyOf(item);
    const known = found.get(key);
    if (known) known.push(item);
    else found.set(key, [item]);
  }
  return found;
}

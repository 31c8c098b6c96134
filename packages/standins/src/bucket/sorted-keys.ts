const byUtf8 = (a: string, b: string) => Buffer.compare(Buffer.from(a), Buffer.from(b));

/** Keys in the order of their bytes, as the protocol lists them: kept in order, as a bucket of a million is listed page by page. */
export class SortedKeys {
  private keys: string[] = [];
  private readonly fresh = new Set<string>();
  private readonly gone = new Set<string>();

  add(key: string): void {
    if (!this.gone.delete(key)) this.fresh.add(key);
  }

  remove(key: string): void {
    if (!this.fresh.delete(key)) this.gone.add(key);
  }

  private settle(): void {
    if (!this.fresh.size && !this.gone.size) return;
    const rest = this.gone.size ? this.keys.filter((k) => !this.gone.has(k)) : this.keys;
    const added = [...this.fresh].sort(byUtf8);
    const all: string[] = [];
    let at = 0;
    for (const key of added) {
      while (at < rest.length && byUtf8(rest[at]!, key) < 0) all.push(rest[at++]!);
      all.push(key);
    }
    while (at < rest.length) all.push(rest[at++]!);
    this.keys = all;
    this.fresh.clear();
    this.gone.clear();
  }

  /** Keys that come after `after` and begin with `prefix`, one by one. */
  *behind(after: string, prefix: string): Generator<string> {
    this.settle();
    const { keys } = this;
    const from = byUtf8(after, prefix) < 0 ? prefix : after;
    let [low, high] = [0, keys.length];
    while (low < high) {
      const middle = (low + high) >> 1;
      if (byUtf8(keys[middle]!, from) < 0) low = middle + 1;
      else high = middle;
    }
    for (let i = low; i < keys.length && keys[i]!.startsWith(prefix); i++) if (after === '' || keys[i] !== after) yield keys[i]!;
  }
}

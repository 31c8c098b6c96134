/** Does acts of the same key one after the other, in the order in which they were asked for. */
export class Turns<K> {
  private readonly last = new Map<K, Promise<unknown>>();

  run<T>(key: K, act: () => Promise<T>): Promise<T> {
    const before = this.last.get(key) ?? Promise.resolve();
    const own = before.then(act, act);
    this.last.set(key, own);
    const done = () => {
      if (this.last.get(key) === own) this.last.delete(key);
    };
    own.then(done, done);
    return own;
  }

  /** Keys of which something is under way. */
  get busy(): number {
    return this.last.size;
  }
}

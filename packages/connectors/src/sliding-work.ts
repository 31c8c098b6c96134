/** Does pieces of work side by side, at most so many at once. */
export class SlidingWork {
  private readonly running = new Set<Promise<void>>();
  private failure: { readonly error: unknown } | undefined;

  constructor(private readonly atOnce: number) {}

  /** Starts a piece of work once there is room for it. Throws what an earlier piece failed with. */
  async add(work: () => Promise<void>): Promise<void> {
    while (this.running.size >= this.atOnce) await Promise.race(this.running);
    this.rethrow();
    const piece = work()
      .catch((error: unknown) => {
        this.failure ??= { error };
      })
      .finally(() => this.running.delete(piece));
    this.running.add(piece);
  }

  /** Waits until all of it is done. Throws what a piece failed with. */
  async idle(): Promise<void> {
    while (this.running.size) await Promise.race(this.running);
    this.rethrow();
  }

  private rethrow(): void {
    if (this.failure) throw this.failure.error;
  }
}

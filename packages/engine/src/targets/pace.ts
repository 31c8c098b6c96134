const sliceMs = 100;

/** Has a pace, or none. */
export interface Paced {
  /** Memory of the {@link Pace} at which packs are written there and read again to verify them. */
  readonly pace?: SharedArrayBuffer;
}

/** The pace of what has one. */
export function paceOf({ pace }: Paced): Pace | undefined {
  return pace && new Pace(pace);
}

/**
 * How fast data may travel, shared by all threads of a task. Who takes bytes waits until what was taken before has had its time, so that on the whole no more travels than
 * is allowed; a change holds for those who wait, too.
 */
export class Pace {
  private readonly cells: BigInt64Array;

  constructor(memory: SharedArrayBuffer) {
    this.cells = new BigInt64Array(memory);
  }

  static memory(): SharedArrayBuffer {
    return new SharedArrayBuffer(2 * BigInt64Array.BYTES_PER_ELEMENT);
  }

  /** Bytes a second; 0 for no limit. */
  set(perSecond: number): void {
    Atomics.store(this.cells, 0, BigInt(Math.max(0, Math.round(perSecond))));
  }

  /** Waits for the turn of `bytes`. */
  async take(bytes: number): Promise<void> {
    for (;;) {
      const perSecond = Number(Atomics.load(this.cells, 0));
      if (perSecond === 0) return;
      const now = Date.now() * 1000;
      const free = Atomics.load(this.cells, 1);
      const wait = Math.min(Number(free) - now, sliceMs * 1000);
      if (wait > 0) {
        await new Promise((resume) => setTimeout(resume, wait / 1000));
        continue;
      }
      const next = BigInt(now + Math.ceil((bytes * 1e6) / perSecond));
      if (Atomics.compareExchange(this.cells, 1, free, next) === free) return;
    }
  }
}

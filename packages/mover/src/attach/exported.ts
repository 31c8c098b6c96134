import { setTimeout } from 'node:timers/promises';
import type { Blocks, Stretch } from '@lithodex/volumes';

/** What a block device is made of. */
export type Exported = Required<Blocks>;

/** One that can be written to as well. */
export interface Writable extends Exported {
  write(offset: number, data: Buffer): Promise<void>;
  flush(): Promise<void>;
}

/** Stored blocks as a device; one that does not know where data is says that all of it is. */
export function exportedOf(blocks: Blocks): Exported {
  return new ReadAhead({
    size: blocks.size,
    read: (offset, length) => blocks.read(offset, length),
    stretches: (offset, length) => blocks.stretches?.(offset, length) ?? [{ length, hole: false }],
  });
}

const aheadBytes = 1 << 20;

/** Reads on where somebody reads one piece after the other, so that the next one is there when it is asked for. */
export class ReadAhead implements Exported {
  private expected = -1;
  private next: { readonly offset: number; readonly data: Promise<Buffer> } | undefined;

  constructor(private readonly inner: Exported) {}

  get size(): number {
    return this.inner.size;
  }

  stretches(offset: number, length: number): Stretch[] {
    return this.inner.stretches(offset, length);
  }

  async read(offset: number, length: number): Promise<Buffer> {
    const follows = offset === this.expected;
    this.expected = offset + length;
    const { next } = this;
    const data =
      next && offset >= next.offset && offset + length <= next.offset + aheadBytes ? await this.from(next, offset, length) : undefined;
    if (follows) this.goOn(offset + length);
    return data ?? this.inner.read(offset, length);
  }

  private async from(
    next: { readonly offset: number; readonly data: Promise<Buffer> },
    offset: number,
    length: number,
  ): Promise<Buffer | undefined> {
    const whole = await next.data.catch(() => undefined);
    const part = whole?.subarray(offset - next.offset, offset - next.offset + length);
    return part?.length === length ? part : undefined;
  }

  private goOn(offset: number): void {
    const { next } = this;
    if ((next && offset < next.offset + aheadBytes && offset >= next.offset) || offset >= this.size) return;
    const data = this.inner.read(offset, Math.min(aheadBytes, this.size - offset));
    data.catch(() => undefined);
    this.next = { offset, data };
  }
}

const againMs = 1000;

/** Reads again what can't be read now, for so long: a store that is away for a moment is nothing a machine should see. */
export function patient(inner: Exported, forMs: number, stopped: () => boolean): Exported {
  return {
    size: inner.size,
    stretches: (offset, length) => inner.stretches(offset, length),
    async read(offset, length) {
      for (const until = Date.now() + forMs; ;)
        try {
          return await inner.read(offset, length);
        } catch (error) {
          if (Date.now() >= until || stopped()) throw error;
          await setTimeout(againMs);
        }
    },
  };
}

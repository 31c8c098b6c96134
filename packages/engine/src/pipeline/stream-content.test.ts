import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import type { TreeEntry } from '../tree/tree-entry';
import { segmentBytes, type SegmentDone } from './crunch';
import type { CrunchPool } from './crunch-pool';
import { StreamContent } from './stream-content';

/** A pool that keeps pieces as they come, and names each by its number. */
class Pieces {
  readonly kept: Buffer[] = [];
  failure: Error | undefined;

  readonly pool = {
    segmentMemory: () => new ArrayBuffer(segmentBytes),
    segment: (data: Uint8Array<ArrayBuffer>) => {
      const names = Buffer.alloc(32, this.kept.length);
      this.kept.push(Buffer.from(data));
      const { length } = data;
      const done = this.failure
        ? Promise.reject(this.failure)
        : Promise.resolve<SegmentDone>({ names, lengths: [length], random: false, memory: data.buffer });
      return Promise.resolve({ done });
    },
  } as unknown as CrunchPool;
}

const stream = (pieces: Pieces) => new StreamContent(pieces.pool, () => Buffer.alloc(32));
const lengthsOf = (content: TreeEntry['content']) => (content && 'lengths' in content ? content.lengths : []);

describe('a stream that is stored', () => {
  it('holds every byte in order, however it is written and wherever pieces end', async () => {
    await fc.assert(
      fc.asyncProperty(fc.array(fc.tuple(fc.uint8Array({ maxLength: 200_000 }), fc.boolean()), { maxLength: 12 }), async (writes) => {
        const pieces = new Pieces();
        const s = stream(pieces);
        for (const [data, ends] of writes) {
          await s.write(data);
          if (ends) await s.endPiece();
        }
        const { size, content } = await s.finish();
        const whole = Buffer.concat(writes.map(([data]) => data));
        expect(Buffer.concat(pieces.kept)).toEqual(whole);
        expect(size).toBe(whole.length);
        expect(lengthsOf(content).reduce((a, b) => a + b, 0)).toBe(whole.length);
      }),
      { numRuns: 40 },
    );
  });

  it('ends a piece by itself when it is as long as a piece may be', async () => {
    const pieces = new Pieces();
    const s = stream(pieces);
    const data = Buffer.alloc(3 << 20, 'tide');
    for (let i = 0; i < 6; i++) await s.write(data);
    await s.finish();
    expect(pieces.kept.map((p) => p.length)).toEqual([segmentBytes, segmentBytes, (18 << 20) - 2 * segmentBytes]);
  });

  it('says what a thread failed with, at the latest in the end', async () => {
    const pieces = new Pieces();
    pieces.failure = new Error('the disk is full');
    const s = stream(pieces);
    await s.write(Buffer.from('row'));
    await expect(s.finish()).rejects.toThrow('the disk is full');
  });
});

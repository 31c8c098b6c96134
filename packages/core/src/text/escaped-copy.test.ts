import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { escapedCopy, escapedCopyData } from './escaped-copy';

const letters: Record<number, string> = { 0: '0', 10: 'n', 13: 'r', 26: 'Z', 34: '"', 39: "'", 92: '\\' };
const escaped = (bytes: Uint8Array) =>
  Buffer.concat([...bytes].map((b) => (b in letters ? Buffer.from(`\\${letters[b]!}`) : Buffer.from([b]))));

const anyByte = fc.oneof(fc.nat(255), fc.constantFrom(0, 9, 10, 13, 26, 27, 34, 39, 92, 97, 32));

describe('a copy that escapes', () => {
  const work = escapedCopy(2000);
  const heap = new Uint8Array(work.memory.buffer);

  it('is what escaping byte by byte gives, whatever stands around it and wherever it lies', () => {
    fc.assert(
      fc.property(
        fc.array(anyByte, { maxLength: 300 }),
        fc.nat(20),
        fc.nat(20),
        fc.array(anyByte, { maxLength: 20 }),
        (bytes, from, gap, behind) => {
          const begin = escapedCopyData + from;
          heap.set(bytes, begin);
          heap.set(behind, begin + bytes.length);
          const to = escapedCopyData + 1000 + gap;
          heap[to - 1] = 7;
          const end = work.copy(begin, begin + bytes.length, to);
          expect(Buffer.from(heap.slice(to, end))).toEqual(escaped(Uint8Array.from(bytes)));
          expect(heap[to - 1]).toBe(7);
          expect(Buffer.from(heap.slice(begin, begin + bytes.length))).toEqual(Buffer.from(bytes));
        },
      ),
      { numRuns: 500 },
    );
  });
});

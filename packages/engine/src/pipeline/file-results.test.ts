import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { FileResults, readResults, type FileResult } from './file-results';

const code = fc.stringMatching(/^[A-Z]{1,12}$/);
const result: fc.Arbitrary<FileResult> = fc.oneof(
  fc.record({ failed: code }),
  fc.record({
    entry: fc.uint8Array({ maxLength: 300 }).map((b) => Buffer.from(b)),
    size: fc.nat(2 ** 50),
    read: fc.nat(2 ** 50),
    torn: fc.boolean(),
    hardId: fc.oneof(fc.constant(''), fc.stringMatching(/^\d{1,9}:\d{1,9}$/)),
    attributesFailed: fc.oneof(fc.constant(''), code),
  }),
);

describe('results of a batch', () => {
  it('arrive as they were sent, batch after batch', () => {
    fc.assert(
      fc.property(fc.array(fc.array(result, { maxLength: 8 }), { maxLength: 3 }), (batches) => {
        const results = new FileResults();
        for (const batch of batches) {
          for (const r of batch) {
            if ('failed' in r) results.failed(r.failed);
            else results.done(r);
          }
          const seen: [number, FileResult][] = [];
          readResults(results.take(), (r, at) => seen.push([at, r]));
          expect(seen).toEqual(batch.map((r, i) => [i, r]));
        }
      }),
    );
  });
});

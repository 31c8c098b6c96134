import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { shareName, sharePath } from './share-names';

const name = fc.uint8Array({ minLength: 1, maxLength: 20 }).map((bytes) => Buffer.from(bytes).toString('latin1').replace(/[/\0]/g, 'x'));
/** What a person reads back: the bytes that were there. */
const back = (text: string) =>
  Buffer.from(text, 'utf8')
    .toString('latin1')
    .replace(/%([0-9A-F]{2})/g, (_, hex: string) => String.fromCharCode(parseInt(hex, 16)));

describe('names on a share', () => {
  it('hold nothing a share can not, and lead back to the bytes they stand for', () => {
    fc.assert(
      fc.property(
        fc.oneof(
          name,
          fc.string({ unit: 'grapheme', minLength: 1 }).map((s) => Buffer.from(s).toString('latin1').replace(/[/\0]/g, 'x')),
        ),
        (n) => {
          const shown = shareName(n);
          expect(shown).not.toMatch(/[\\:*?"<>|\0-\x1f]|[. ]$/);
          expect(shown).not.toMatch(/^(con|prn|aux|nul|com\d|lpt\d)(\.|$)/i);
          expect(back(shown)).toBe(n);
        },
      ),
      { numRuns: 3000 },
    );
  });

  it('are as they were where they can be', () => {
    expect(shareName('roster 2026.txt')).toBe('roster 2026.txt');
    expect(shareName(Buffer.from('Größe').toString('latin1'))).toBe('Größe');
    expect(sharePath('a:b/con/50%/100%25')).toBe('a%3Ab/%63on/50%/100%2525');
    expect(shareName('end.')).toBe('end%2E');
  });
});

import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { besideName, decideConflict } from './conflict';

const item = { isFolder: false, mtimeNs: 100n };
const there = (more: object = {}) => ({ isFolder: false, mtimeNs: 50n, identical: false, ...more });

describe('what happens when something exists', () => {
  it.each([
    ['leave', there(), 'leave'],
    ['replace', there(), 'replace'],
    ['replaceIfOlder', there(), 'replace'],
    ['replaceIfOlder', there({ mtimeNs: 100n }), 'leave'],
    ['replaceIfOlder', there({ mtimeNs: 500n }), 'leave'],
    ['beside', there(), 'beside'],
    ['replace', there({ identical: true }), 'same'],
    ['beside', there({ identical: true }), 'same'],
    ['replace', there({ isFolder: true }), 'leave'],
    ['leave', undefined, 'write'],
  ] as const)('%s, %o: %s', (rule, existing, action) => {
    expect(decideConflict(rule, item, existing)).toBe(action);
  });

  it('merges folders whatever the rule', () => {
    for (const rule of ['leave', 'replace', 'replaceIfOlder', 'beside'] as const)
      expect(decideConflict(rule, { isFolder: true, mtimeNs: 0n }, there({ isFolder: true }))).toBe('merge');
  });

  it('never replaces by default', () => {
    fc.assert(
      fc.property(fc.boolean(), fc.boolean(), fc.bigInt(), (a, b, t) => {
        expect(decideConflict('leave', { isFolder: a, mtimeNs: t }, there({ isFolder: b }))).not.toBe('replace');
      }),
    );
  });
});

describe('a name put beside', () => {
  it('keeps the ending and stays within 255 bytes, with a number from the second try on', () => {
    fc.assert(
      fc.property(
        fc.stringMatching(/^[a-zA-Z0-9 ]{1,260}$/),
        fc.constantFrom('', '.pdf', '.tar'),
        fc.integer({ min: 1, max: 99 }),
        (stem, ending, attempt) => {
          const name = besideName((stem + ending).slice(-255), '2026-11-22 2200', attempt);
          expect(name.length).toBeLessThanOrEqual(255);
          expect(name.endsWith(ending)).toBe(true);
          expect(name).toContain(attempt > 1 ? `(restored 2026-11-22 2200 ${attempt})` : '(restored 2026-11-22 2200)');
        },
      ),
    );
  });

  it('does not cut a character in two', () => {
    const long = Buffer.from('ä'.repeat(127)).toString('latin1');
    const name = Buffer.from(besideName(long, '2026-11-22 2200', 1), 'latin1');
    expect(name.toString('utf8')).not.toContain('\ufffd');
  });
});

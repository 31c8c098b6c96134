import fc from 'fast-check';
import { expect, it } from 'vitest';
import { stringify } from './csv';

it('quotes what needs it and ends every row', () => {
  expect(
    stringify([
      ['run', 1],
      ['say "so", please', 'two\nlines'],
    ]),
  ).toBe('run,1\r\n"say ""so"", please","two\nlines"\r\n');
});

it('gives no spreadsheet a formula to run', () => {
  fc.assert(
    fc.property(fc.constantFrom('=', '+', '-', '@', '\t'), fc.string(), (lead, rest) => {
      expect(
        stringify([[lead + rest]])
          .replace(/^"/, '')
          .startsWith("'"),
      ).toBe(true);
    }),
  );
  expect(stringify([[-5]])).toBe('-5\r\n');
});

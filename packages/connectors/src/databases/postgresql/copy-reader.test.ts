import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { CopyReader, endOfRows } from './copy-reader';

/** Reads what comes in pieces up to the end of the rows. */
async function read(pieces: readonly Buffer[]): Promise<{ rows: string; left: string } | undefined> {
  const reader = new CopyReader();
  const parts: Buffer[] = [];
  const sink = {
    open: 0,
    endPiece: () => Promise.resolve(),
    write(data: Uint8Array) {
      parts.push(Buffer.from(data));
      return Promise.resolve();
    },
  };
  for (const [i, piece] of pieces.entries()) {
    reader.add(piece);
    if (await reader.take(sink))
      return { rows: Buffer.concat(parts).toString(), left: Buffer.concat([reader.left, ...pieces.slice(i + 1)]).toString() };
  }
  return undefined;
}

describe('rows as COPY writes them', () => {
  it('are the same however they come in pieces, and end at the line that says so', async () => {
    const row = fc.stringMatching(/^[a-z\t\\.]{0,8}$/).filter((r) => r !== '\\.');
    await fc.assert(
      fc.asyncProperty(fc.array(row, { maxLength: 12 }), row, fc.array(fc.nat(60), { maxLength: 8 }), async (rows, behind, cuts) => {
        const text = rows.map((r) => `${r}\n`).join('');
        const all = Buffer.from(`${text}${endOfRows.toString()}${behind}`);
        const at = [0, ...cuts.map((c) => c % (all.length + 1)).sort((a, b) => a - b), all.length];
        const pieces = at.slice(1).map((to, i) => all.subarray(at[i], to));
        expect(await read(pieces)).toEqual({ rows: text, left: behind });
      }),
    );
  });

  it('have no end where that line is not there', async () => {
    expect(await read([Buffer.from('a\nb\\.\n')])).toBeUndefined();
    expect(await read([Buffer.from('a\n\\'), Buffer.from('.')])).toBeUndefined();
  });
});

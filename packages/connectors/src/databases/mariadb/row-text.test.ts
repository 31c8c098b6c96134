import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { rounds } from '../../../../../tests/support/by-command';
import type { RowSink } from '../family';
import { passRows } from '../row-pieces';
import { RowText, type RawColumn } from './row-text';
import { TableText } from './table-text';

const int: RawColumn = { type: 3, binary: true };
const text: RawColumn = { type: 253, binary: false };
const bytes: RawColumn = { type: 252, binary: true };
const date: RawColumn = { type: 12, binary: true };
const bits: RawColumn = { type: 16, binary: true };

/** A value as the protocol carries it: null, or bytes behind their length. */
function onTheWire(value: Buffer | null): Buffer {
  if (!value) return Buffer.from([251]);
  const { length } = value;
  if (length < 251) return Buffer.concat([Buffer.from([length]), value]);
  const head = Buffer.alloc(length < 65_536 ? 3 : length < 1 << 24 ? 4 : 9);
  head[0] = head.length === 3 ? 252 : head.length === 4 ? 253 : 254;
  head.writeUIntLE(length, 1, Math.min(6, head.length - 1));
  return Buffer.concat([head, value]);
}

/** What the program of the family writes for a value. */
function written(value: Buffer | null, column: RawColumn): string {
  if (!value) return 'NULL';
  if (column === int) return value.toString('latin1');
  if ((column === bytes || column === bits) && value.length) return `0x${value.toString('hex').toUpperCase()}`;
  const letters: Record<string, string> = { '\0': '0', '\n': 'n', '\r': 'r', '\\': '\\', "'": "'", '"': '"', '\x1a': 'Z' };
  return `'${value.toString('latin1').replace(/[\0\n\r\\'"\x1a]/g, (c) => `\\${letters[c]!}`)}'`;
}

/** Writes rows, with other bytes of the connection around each. */
async function writtenRows(opening: string, columns: readonly RawColumn[], rows: readonly (Buffer | null)[][]): Promise<string> {
  const parts: Buffer[] = [];
  const out = new RowText(Buffer.from(opening, 'latin1'), columns, async (lines) => {
    await Promise.resolve();
    parts.push(Buffer.from(lines));
    lines.fill(0);
  });
  for (const row of rows) {
    const data = Buffer.concat([Buffer.from('before'), ...row.map(onTheWire), Buffer.from('behind')]);
    await out.add(data, 6, data.length - 6);
    // the memory of a row is used again for the next one
    data.fill(7);
  }
  await out.finish();
  return Buffer.concat(parts).toString('latin1');
}

const anyBytes = fc.oneof(
  fc.uint8Array({ maxLength: 40 }),
  fc.constantFrom('', "it's", 'a\nb\r\0', '\\n"', '\x1a', 'INSERT INTO `t` VALUES ').map((s) => new Uint8Array(Buffer.from(s))),
  fc.constantFrom(250, 251, 252, 65_535, 65_536).map((n) => new Uint8Array(n).fill(39)),
);
const rowOf = (columns: readonly RawColumn[]) =>
  fc.tuple(
    ...columns.map((c) =>
      fc.option(
        c === int
          ? fc.bigInt({ min: -(2n ** 63n), max: 2n ** 64n - 1n }).map((n) => Buffer.from(String(n)))
          : anyBytes.map((b) => Buffer.from(b)),
      ),
    ),
  );

describe('rows as statements', () => {
  it('are what the program of the family writes, a line each', async () => {
    const columns = [int, text, bytes, date, bits];
    await fc.assert(
      fc.asyncProperty(fc.array(rowOf(columns), { maxLength: 25 }), async (rows) => {
        const lines = rows.map((row) => `INSERT INTO \`t\` VALUES (${row.map((v, i) => written(v, columns[i]!)).join(',')});\n`);
        expect(await writtenRows('INSERT INTO `t` VALUES (', columns, rows)).toBe(lines.join(''));
      }),
      { numRuns: rounds(30, 100) },
    );
  });

  it('are written whole where a row is larger than what is passed on at once', async () => {
    const large = Buffer.alloc(3 << 20, "'");
    const rows = [[large], [Buffer.from('small')], [large]];
    const said = await writtenRows('INSERT INTO `t` VALUES (', [text], rows);
    expect(said.length).toBe(2 * (2 * large.length) + 5 + 3 * "INSERT INTO `t` VALUES ('');\n".length);
  });

  it('say what went wrong where they are passed on', async () => {
    const out = new RowText(Buffer.from('x ('), [text], () => Promise.reject(new Error('no room')));
    const row = onTheWire(Buffer.alloc(2 << 20, 'a'));
    void out.add(row, 0, row.length);
    await expect(out.finish()).rejects.toThrow('no room');
  });

  it('are cut into the same pieces when many before them have become longer', async () => {
    const ends = async (longer: number): Promise<number[]> => {
      const found: number[] = [];
      let whole = 0;
      let open = 0;
      const sink: RowSink = {
        get open() {
          return open;
        },
        write(data) {
          open += data.length;
          whole += data.length;
          return Promise.resolve();
        },
        endPiece() {
          open = 0;
          found.push(whole);
          return Promise.resolve();
        },
      };
      const opening = 'INSERT INTO `t` VALUES (';
      const out = new RowText(Buffer.from(opening), [int, text, text], (lines) => passRows(sink, lines, opening.length - 1));
      for (let i = 0; i < 160_000; i++) {
        const values = [String(i), String((i * 7919) % 100_003), `${i < longer ? 'changed' : ''}${'x'.repeat(i % 190)}`];
        const row = Buffer.concat(values.map((v) => onTheWire(Buffer.from(v))));
        await out.add(row, 0, row.length);
      }
      await out.finish();
      // counted from the end, as what changed is at the beginning
      return found.map((end) => whole - end);
    };
    const [then, now] = [await ends(0), await ends(9_000)];
    expect(then.length).toBeGreaterThan(3);
    expect(then.filter((end) => now.includes(end)).length).toBeGreaterThan(then.length / 2);
  });
});

describe('the text of a table', () => {
  it('fills another table with the same rows, and counts them', async () => {
    const columns = [int, text];
    const openings = ['INSERT INTO `t` VALUES (', 'INSERT INTO `t` (`a`, `b ``x`) VALUES ('];
    await fc.assert(
      fc.asyncProperty(
        fc.constantFrom(...openings),
        fc.array(rowOf(columns), { maxLength: 30 }),
        fc.array(fc.integer({ min: 1, max: 40 }), { minLength: 1 }),
        async (opening, rows, sizes) => {
          const head = "SET NAMES utf8mb4;\n\nCREATE TABLE `t` (\n  `a` int COMMENT 'x;y'\n) ENGINE=InnoDB;\n\n";
          const whole = Buffer.from(head + (await writtenRows(opening, columns, rows)), 'latin1');
          const pieces = async function* () {
            for (let at = 0, i = 0; at < whole.length; i++) {
              const size = sizes[i % sizes.length]! * 50;
              yield whole.subarray(at, at + size);
              at += size;
              await Promise.resolve();
            }
          };
          const table = await TableText.open('t', pieces());
          const count = { count: 0 };
          const out: Buffer[] = [];
          for await (const piece of table.filling('new', count)) out.push(Buffer.from(piece));
          expect(count.count).toBe(rows.length);
          const filled = rows.map((row) => `(${row.map((v, i) => written(v, columns[i]!)).join(',')})`);
          const statements = Buffer.concat(out)
            .toString('latin1')
            .split(/(?<=;\n)/);
          const begin = opening.slice(0, -1).replace('`t`', '`new`');
          expect(
            statements
              .filter(Boolean)
              .map((s) => s.slice(begin.length, -2))
              .join(','),
          ).toBe(filled.join(','));
          for (const s of statements.filter(Boolean)) expect(s.startsWith(begin)).toBe(true);
        },
      ),
      { numRuns: rounds(20, 60) },
    );
  });
});

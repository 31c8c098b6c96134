import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import type { RowSink } from '../family';
import { DumpReader } from './dump-reader';
import { TableText } from './table-text';

/** Gathers the text of each table, with the places where pieces end. */
class Texts {
  readonly byTable = new Map<string, Buffer[]>();
  /** Where pieces end, bytes. */
  readonly ends = new Map<string, number[]>();

  readonly sink = (database: string, table: string): RowSink => {
    const key = `${database}.${table}`;
    const parts: Buffer[] = [];
    this.byTable.set(key, parts);
    let open = 0;
    return {
      get open() {
        return open;
      },
      write(data) {
        parts.push(Buffer.from(data));
        open += data.length;
        return Promise.resolve();
      },
      endPiece: () => {
        const before = this.ends.get(key) ?? [];
        this.ends.set(key, [...before, (before.at(-1) ?? 0) + open]);
        open = 0;
        return Promise.resolve();
      },
    };
  };

  text(key: string): string {
    return Buffer.concat(this.byTable.get(key) ?? []).toString('latin1');
  }
}

async function read(dump: string, cuts: readonly number[] = []): Promise<{ texts: Texts; reader: DumpReader }> {
  const texts = new Texts();
  const reader = new DumpReader('', texts.sink);
  const data = Buffer.from(dump, 'latin1');
  const places = [0, ...cuts.map((c) => c % (data.length + 1)).sort((a, b) => a - b), data.length];
  for (let i = 1; i < places.length; i++) await reader.take(data.subarray(places[i - 1], places[i]));
  reader.end();
  return { texts, reader };
}

const linesOf = (text: string) => text.split('\n').filter(Boolean);
const value = fc.string({ unit: fc.constantFrom('a', "\\'", '\\n', '`', ';', '(', ')', ',', 'INSERT INTO `x` VALUES ', 'ø') });

describe('a dump taken apart', () => {
  it('holds every row of every table, in order, however the dump arrives in pieces', async () => {
    const table = fc.tuple(fc.constantFrom('ship', 'odd ``name', 'a.b'), fc.array(value, { minLength: 1, maxLength: 40 }));
    await fc.assert(
      fc.asyncProperty(
        fc.uniqueArray(table, { selector: ([name]) => name }),
        fc.array(fc.nat(5000), { maxLength: 6 }),
        async (tables, cuts) => {
          const lines = tables.flatMap(([name, values]) => values.map((v, i) => `INSERT INTO \`${name}\` VALUES (${i},'${v}');`));
          const { texts } = await read(`USE \`berths\`;\n${lines.join('\n')}\n`, cuts);
          for (const [name, values] of tables)
            expect(linesOf(texts.text(`berths.${name.replaceAll('``', '`')}`))).toEqual(
              values.map((v, i) => `INSERT INTO \`${name}\` VALUES (${i},'${v}');`),
            );
        },
      ),
      { numRuns: 60 },
    );
  });

  it('knows where the log stood, and tables with columns that are computed', async () => {
    const dump = `-- CHANGE MASTER TO MASTER_LOG_FILE='changes.000003', MASTER_LOG_POS=2379;
USE \`b\`;
INSERT INTO \`t\` (\`a\`, \`b \`\`x\`) VALUES (1,2);
-- SET GLOBAL gtid_slave_pos='0-7-22';
`;
    const { texts, reader } = await read(dump);
    expect(reader.position).toEqual({ file: 'changes.000003', at: 2379, id: '0-7-22' });
    expect(texts.text('b.t')).toBe('INSERT INTO `t` (`a`, `b ``x`) VALUES (1,2);\n');
  });

  it('refuses a dump that ends within a line', async () => {
    await expect(read('USE `b`;\nINSERT INTO `t` VALUES (1')).rejects.toMatchObject({ code: 'DUMP_UNREADABLE' });
  });

  it('cuts the same rows into the same pieces when many before them have become longer', async () => {
    const rows = (longer: number) =>
      Array.from(
        { length: 160_000 },
        (_, i) => `INSERT INTO \`t\` VALUES (${i},'${(i * 7919) % 100_003}','${i < longer ? 'changed' : ''}${'x'.repeat(i % 190)}');`,
      );
    const [before, after] = await Promise.all([0, 9_000].map((longer) => read(`USE \`b\`;\n${rows(longer).join('\n')}\n`)));
    const ends = ({ texts }: { texts: Texts }) => {
      const whole = texts.text('b.t').length;
      return texts.ends.get('b.t')!.map((end) => whole - end);
    };
    const [then, now] = [ends(before!), ends(after!)];
    expect(then.length).toBeGreaterThan(3);
    // counted from the end, as what changed is at the beginning
    expect(then.filter((end) => now.includes(end)).length).toBeGreaterThan(then.length / 2);
  });
});

describe('the text of a table', () => {
  it('fills another table with the same rows, and counts them', async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.array(value, { maxLength: 30 }),
        fc.array(fc.integer({ min: 1, max: 40 }), { minLength: 1 }),
        async (values, sizes) => {
          const lines = values.map((v, i) => `INSERT INTO \`t\` VALUES (${i},'${v}');`);
          const { texts } = await read(`USE \`b\`;\n${lines.join('\n')}\n`);
          const head = "SET NAMES utf8mb4;\n\nCREATE TABLE `t` (\n  `a` int COMMENT 'x;y'\n) ENGINE=InnoDB;\n\n";
          const whole = Buffer.from(head + texts.text('b.t'), 'latin1');
          const pieces = async function* () {
            for (let at = 0, i = 0; at < whole.length; i++) {
              const size = sizes[i % sizes.length]!;
              yield whole.subarray(at, at + size);
              at += size;
              await Promise.resolve();
            }
          };
          const text = await TableText.open('t', pieces());
          const count = { count: 0 };
          const out: Buffer[] = [];
          for await (const piece of text.filling('new', count)) out.push(Buffer.from(piece));
          expect(count.count).toBe(values.length);
          const rows = values.map((v, i) => `(${i},'${v}')`).join(',');
          expect(Buffer.concat(out).toString('latin1')).toBe(rows && `INSERT INTO \`new\` VALUES ${rows};\n`);
        },
      ),
      { numRuns: 60 },
    );
  });
});

import { SourceError } from '../../source-error';
import { quoted } from './connection';
import { openingLength } from './insert-opening';
import { splitTable, statementEnd, type SplitTable } from './statements';

/** How to make a table is read at once. */
const mostHead = 16 << 20;
const newline = 0x0a;
/** Rows are loaded in statements of about so many bytes: each by itself takes several times as long. */
const statementBytes = 256 << 10;

/** The text of a table as it is stored, taken apart while it is read. */
export class TableText {
  private constructor(
    readonly table: SplitTable,
    private readonly rest: AsyncIterator<Buffer>,
    private readonly first: Buffer,
    private readonly name: string,
  ) {}

  /** Reads how to make the table `name`. Throws SourceError. */
  static async open(name: string, text: AsyncIterable<Buffer>): Promise<TableText> {
    const rest = text[Symbol.asyncIterator]();
    let head = Buffer.alloc(0);
    for (;;) {
      const next = await rest.next();
      if (next.done) throw new SourceError('DUMP_UNREADABLE', `${name}: it does not say how to make the table`);
      head = Buffer.concat([head, next.value]);
      // one character a byte, so that indexes are those of bytes
      const read = head.toString('latin1');
      const create = /^CREATE TABLE /m.exec(read);
      const end = create ? statementEnd(read, create.index) : undefined;
      if (create && end !== undefined) {
        const statement = head.subarray(create.index, end - 1).toString();
        return new TableText(splitTable(statement), rest, head.subarray(end), name);
      }
      if (head.length > mostHead) throw new SourceError('DUMP_UNREADABLE', `${name}: how to make the table has no end`);
    }
  }

  /** What fills a table called `under`, in statements of many rows. `rows` counts the rows that have passed. Throws SourceError for what are no rows of the table. */
  async *filling(under: string, rows: { count: number }): AsyncGenerator<Buffer> {
    const own = Buffer.from(`INSERT INTO ${quoted(this.name)}`);
    const instead = Buffer.from(`INSERT INTO ${quoted(under)}`);
    let prefix: Buffer = Buffer.from('\0');
    let begin: Buffer = instead;
    let kept: Buffer = this.first;
    /** Rows of the statement that is open. */
    let open: Buffer[] = [];
    let bytes = 0;
    const close = (): Buffer[] => {
      const statement = open.length ? [...open, Buffer.from(';\n')] : [];
      open = [];
      bytes = 0;
      return statement;
    };
    for (;;) {
      const next = await this.rest.next();
      const data = next.done ? kept : kept.length ? Buffer.concat([kept, next.value]) : next.value;
      let from = 0;
      for (let end = data.indexOf(newline); end >= 0; end = data.indexOf(newline, from)) {
        // a line is a statement of one row, or nothing
        if (end > from) {
          if (end - from <= prefix.length || data.compare(prefix, 0, prefix.length, from, from + prefix.length) !== 0) {
            if (open.length) yield Buffer.concat(close());
            const length = openingLength(this.rowText(data, from, end, own));
            prefix = Buffer.from(data.subarray(from, from + length));
            begin = Buffer.concat([instead, prefix.subarray(own.length)]);
          }
          rows.count++;
          const row = data.subarray(from + prefix.length, end - 1);
          open.push(open.length ? comma : begin, row);
          bytes += row.length;
          if (bytes >= statementBytes) yield Buffer.concat(close());
        }
        from = end + 1;
      }
      if (next.done) {
        if (from < data.length) throw new SourceError('DUMP_UNREADABLE', `${this.name}: it ends within a row`);
        if (open.length) yield Buffer.concat(close());
        return;
      }
      kept = Buffer.from(data.subarray(from));
    }
  }

  private rowText(data: Buffer, from: number, end: number, own: Buffer): string {
    if (data.compare(own, 0, own.length, from, Math.min(end, from + own.length)) !== 0 || data[end - 1] !== 0x3b)
      throw new SourceError('DUMP_UNREADABLE', `${this.name}: a line that is no row of it`);
    return data.toString('latin1', from, Math.min(end, from + 1_200_000));
  }
}

const comma = Buffer.from(',');

import { SourceError } from '../../source-error';
import { quoted } from './connection';
import { splitTable, statementEnd, type SplitTable } from './statements';

/** How to make a table is read at once. */
const mostHead = 16 << 20;

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

  /**
   * What fills a table called `under`, in pieces. `rows` counts the rows that have passed. No line break of a value stands in the text as one, so a line that begins with the opening
   * of a statement is one.
   */
  async *filling(under: string, rows: { count: number }): AsyncGenerator<Buffer> {
    const opening = Buffer.from(`\nINSERT INTO ${quoted(this.name)}`);
    const instead = Buffer.from(`\nINSERT INTO ${quoted(under)}`);
    const row = Buffer.from('\n(');
    let kept = this.first;
    for (;;) {
      const next = await this.rest.next();
      const data = next.done ? kept : Buffer.concat([kept, next.value]);
      // an opening may begin in this piece and end in the next
      const end = next.done ? data.length : Math.max(0, data.length - opening.length + 1);
      let from = 0;
      const out: Buffer[] = [];
      for (let at = data.indexOf(opening); at >= 0 && at < end; at = data.indexOf(opening, from)) {
        out.push(data.subarray(from, at), instead);
        from = at + opening.length;
      }
      const to = Math.max(from, end);
      out.push(data.subarray(from, to));
      // looked for with one byte of what comes, which is looked at again with the next piece
      for (let at = data.indexOf(row); at >= 0 && at < to; at = data.indexOf(row, at + 1)) rows.count++;
      kept = Buffer.from(data.subarray(to));
      for (const piece of out) if (piece.length) yield piece;
      if (next.done) return;
    }
  }
}

import { SourceError } from '../../source-error';
import type { RowSink } from '../family';
import { copyStatement } from './dump-text';
import { CopyReader } from './copy-reader';

/** What is no rows is read at once. */
const mostText = 16 << 20;
const newline = 0x0a;

/** The text of a table as it is stored, taken apart while it is read. */
export class TableText {
  private constructor(
    private readonly rest: AsyncIterator<Buffer>,
    /** How to make it. */
    readonly head: string,
    /** The statement that rows follow; undefined where there are none. */
    readonly copy: string | undefined,
    private readonly first: Buffer,
  ) {}

  /** Reads up to the rows. Throws SourceError. */
  static async open(name: string, text: AsyncIterable<Buffer>): Promise<TableText> {
    const rest = text[Symbol.asyncIterator]();
    let read = Buffer.alloc(0);
    for (;;) {
      const next = await rest.next();
      if (next.done) return new TableText(rest, read.toString(), undefined, Buffer.alloc(0));
      read = Buffer.concat([read, next.value]);
      // one character a byte, so that indexes are those of bytes
      const found = copyStatement(read.toString('latin1'));
      if (found) {
        const [head, copy] = [read.subarray(0, found.from), read.subarray(found.from, found.to)].map((b) => b.toString());
        return new TableText(rest, head!, copy!.trim().replace(/;$/, ''), read.subarray(found.to));
      }
      if (read.length > mostText) throw new SourceError('DUMP_UNREADABLE', `${name}: how to make the table has no end`);
    }
  }

  /** Passes on the rows. Gives their number, and what follows them. Throws SourceError. */
  async rows(take: (data: Buffer) => Promise<void>): Promise<{ count: number; tail: string }> {
    let count = 0;
    const sink: RowSink = {
      open: 0,
      endPiece: () => Promise.resolve(),
      async write(data) {
        const lines = Buffer.from(data.buffer, data.byteOffset, data.byteLength);
        for (let at = lines.indexOf(newline); at >= 0; at = lines.indexOf(newline, at + 1)) count++;
        await take(lines);
      },
    };
    const reader = new CopyReader();
    reader.add(this.first);
    while (!(await reader.take(sink))) {
      const next = await this.rest.next();
      if (next.done) throw new SourceError('DUMP_UNREADABLE', 'it ends within the rows');
      reader.add(next.value);
    }
    const parts = [reader.left];
    for (let next = await this.rest.next(); !next.done; next = await this.rest.next()) parts.push(next.value);
    return { count, tail: Buffer.concat(parts).toString() };
  }
}

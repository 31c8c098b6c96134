import { SourceError } from '../../source-error';
import type { RowSink } from '../family';
import { passRows } from '../row-pieces';

const newline = 0x0a;
/** The line that says that rows end: none of a row can be like it. */
export const endOfRows = Buffer.from('\\.\n');
const rowsEnd = Buffer.from('\n\\.\n');
const mostLine = 1 << 30;

/** Rows as COPY writes them, a line each, up to the line that says that they end. */
export class CopyReader {
  /** A line that came in two pieces; what follows it is not copied. */
  private joined: Buffer | undefined;
  /** Begins with a line. */
  private kept: Buffer = Buffer.alloc(0);

  /** Adds what was read; its memory may be used again once {@link take} is done with it. */
  add(data: Buffer): void {
    const end = this.kept.length ? data.indexOf(newline) : -1;
    if (end >= 0) {
      this.joined = Buffer.concat([this.kept, data.subarray(0, end + 1)]);
      this.kept = data.subarray(end + 1);
    } else this.kept = this.kept.length ? Buffer.concat([this.kept, data]) : data;
    if (this.kept.length > mostLine) throw new SourceError('DUMP_UNREADABLE', 'a row of more than 1 GiB');
  }

  /** What follows the rows, so far. */
  get left(): Buffer {
    return this.kept;
  }

  /** Passes on the rows that are there; to be called behind each {@link add}. Tells whether they ended. */
  async take(sink: RowSink): Promise<boolean> {
    const { joined } = this;
    this.joined = undefined;
    if (joined?.equals(endOfRows)) return true;
    if (joined) await passRows(sink, joined);
    const { kept } = this;
    if (kept.length >= endOfRows.length && kept.subarray(0, endOfRows.length).equals(endOfRows)) {
      this.kept = kept.subarray(endOfRows.length);
      return true;
    }
    const end = kept.indexOf(rowsEnd);
    const lines = end >= 0 ? end + 1 : kept.lastIndexOf(newline) + 1;
    if (lines > 0) {
      await passRows(sink, kept.subarray(0, lines));
      this.kept = end >= 0 ? kept.subarray(end + rowsEnd.length) : kept.subarray(lines);
    }
    this.kept = Buffer.from(this.kept);
    return end >= 0;
  }
}

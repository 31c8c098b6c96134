import { SourceError } from '../../source-error';
import type { RowSink } from '../family';
import { passRows } from '../row-pieces';

const newline = 0x0a;
/** No row is larger: as much as the protocol of the family can carry. */
const mostLine = 1 << 30;
const insertInto = Buffer.from('INSERT INTO `');
const useDatabase = Buffer.from('\nUSE `');
const values = ' VALUES ';
/** The name that begins after an opening backtick at `from`, and where it ends. */
export function nameAt(text: string, from: number): { name: string; end: number } {
  for (let at = from; ; at++) {
    at = text.indexOf('`', at);
    if (at < 0) throw new SourceError('DUMP_UNREADABLE', 'a name without an end');
    if (text[at + 1] !== '`') return { name: text.slice(from, at).replaceAll('``', '`'), end: at + 1 };
    at++;
  }
}

const beginsWith = (data: Buffer, at: number, begin: Buffer) =>
  data.length - at >= begin.length && data.compare(begin, 0, begin.length, at, at + begin.length) === 0;

/**
 * What a dump of one row a statement says: rows by table, and where the log stood. Rows stay as they are, a statement a line; no line break of a value stands in the dump as one. Tables
 * follow each other, so what begins and ends with the same table holds nothing else, and most of it is passed on without being looked at.
 */
export class DumpReader {
  private parts: Buffer[] = [];
  private partsBytes = 0;
  /** What the statements of the table being read begin with, up to the row. */
  private prefix: Buffer = Buffer.from('\0');
  private sink: RowSink | undefined;
  private file = '';
  private at = 0;
  private id = '';

  /** `database`: which one the dump is of, where it does not say. */
  constructor(
    private database: string,
    private readonly sinkOf: (database: string, table: string) => RowSink | undefined,
  ) {}

  get position(): { readonly file: string; readonly at: number; readonly id: string } | null {
    return this.file ? { file: this.file, at: this.at, id: this.id } : null;
  }

  /** Takes what the program wrote, in any pieces. Throws SourceError and what the sink throws. */
  async take(data: Buffer): Promise<void> {
    const end = data.lastIndexOf(newline) + 1;
    if (end === 0) {
      this.keep(data);
      return;
    }
    let from = 0;
    if (this.parts.length) {
      // a line that came in pieces is put together; what follows it is not copied
      from = data.indexOf(newline) + 1;
      const line = Buffer.concat([...this.parts, data.subarray(0, from)]);
      this.parts = [];
      this.partsBytes = 0;
      await this.lines(line);
    }
    if (from < end) await this.lines(data.subarray(from, end));
    if (end < data.length) this.keep(data.subarray(end));
  }

  private async lines(lines: Buffer): Promise<void> {
    if (this.isOneTable(lines)) await this.rows(lines);
    else await this.lineByLine(lines);
  }

  private keep(data: Buffer): void {
    // the memory of what was read is used again
    this.parts.push(Buffer.from(data));
    this.partsBytes += data.length;
    if (this.partsBytes > mostLine) throw new SourceError('DUMP_UNREADABLE', 'a row of more than 1 GiB');
  }

  end(): void {
    if (this.partsBytes > 0) throw new SourceError('DUMP_UNREADABLE', 'it ends within a line');
  }

  private isOneTable(lines: Buffer): boolean {
    const last = lines.lastIndexOf(newline, lines.length - 2) + 1;
    return beginsWith(lines, 0, this.prefix) && beginsWith(lines, last, this.prefix) && !lines.includes(useDatabase);
  }

  /** Whole lines of the table that is being read. */
  private async rows(lines: Buffer): Promise<void> {
    if (this.sink) await passRows(this.sink, lines, this.prefix.length);
  }

  private async lineByLine(lines: Buffer): Promise<void> {
    let rows = -1;
    const pass = async (to: number) => {
      if (rows >= 0) await this.rows(lines.subarray(rows, to));
      rows = -1;
    };
    for (let from = 0; from < lines.length;) {
      const end = lines.indexOf(newline, from) + 1;
      if (beginsWith(lines, from, this.prefix)) {
        if (rows < 0) rows = from;
      } else {
        await pass(from);
        if (beginsWith(lines, from, insertInto)) {
          this.begin(lines, from, end);
          rows = from;
        } else this.remark(lines.toString('utf8', from, Math.min(end, from + 10_000)));
      }
      from = end;
    }
    await pass(lines.length);
  }

  /** The first row of a table. */
  private begin(data: Buffer, from: number, to: number): void {
    const { name, bytes } = opening(data, from, to);
    this.prefix = bytes;
    this.sink = this.sinkOf(this.database, name);
  }

  private remark(line: string): void {
    if (line.startsWith('USE `')) {
      this.database = nameAt(line, 5).name;
      // another database may have a table of the same name
      this.prefix = Buffer.from('\0');
    }
    const log = /^-- CHANGE MASTER TO MASTER_LOG_FILE='([^']+)', MASTER_LOG_POS=(\d+);/.exec(line);
    if (log) [this.file, this.at] = [log[1]!, Number(log[2])];
    const id = /^-- SET GLOBAL gtid_slave_pos='([^']*)'/.exec(line);
    if (id) this.id = id[1]!;
  }
}

/** Table of a statement, and its bytes up to the row: "INSERT INTO `name` VALUES ", with names of columns where some are computed. */
function opening(data: Buffer, from: number, to: number): { name: string; bytes: Buffer } {
  // names are at most 64 characters each, columns at most 4096
  const text = data.toString('latin1', from, Math.min(to, from + 1_200_000));
  const { name, length } = openingOf(text);
  return { name: Buffer.from(name, 'latin1').toString(), bytes: Buffer.from(data.subarray(from, from + length)) };
}

/** The same of a statement as text of one character a byte. Throws SourceError for one of another form. */
export function openingOf(text: string): { name: string; length: number } {
  const table = nameAt(text, insertInto.length);
  let at = table.end;
  if (text.startsWith(' (`', at)) {
    for (at += 3; ;) {
      at = nameAt(text, at).end;
      if (text[at] === ')') break;
      at = text.indexOf('`', at) + 1;
    }
    at++;
  }
  if (!text.startsWith(values, at)) throw new SourceError('DUMP_UNREADABLE', 'a statement of another form');
  return { name: table.name, length: at + values.length };
}

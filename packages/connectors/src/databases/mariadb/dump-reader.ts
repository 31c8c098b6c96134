import { SourceError } from '../../source-error';
import type { RowSink, RowsRead } from '../family';
import { RowGroups } from './row-groups';

const newline = 0x0a;
/** No row is larger: as much as the protocol of the family can carry. */
const mostLine = 1 << 30;
const insertInto = Buffer.from('INSERT INTO `');

/** The name that begins after an opening backtick at `from`, and where it ends. */
function nameAt(text: string, from: number): { name: string; end: number } {
  for (let at = from; ; at++) {
    at = text.indexOf('`', at);
    if (at < 0) throw new SourceError('DUMP_UNREADABLE', 'a name without an end');
    if (text[at + 1] !== '`') return { name: text.slice(from, at).replaceAll('``', '`'), end: at + 1 };
    at++;
  }
}

/** What a dump of one row a statement says: rows by table, and where the log stood. */
export class DumpReader {
  private parts: Buffer[] = [];
  private partsBytes = 0;
  /** What the statements of the table being read begin with, up to the row. */
  private prefix: Buffer = Buffer.from('\0');
  private groups: RowGroups | undefined;
  private file = '';
  private at = 0;
  private id = '';

  /** `database`: which one the dump is of, where it does not say. */
  constructor(
    private database: string,
    private readonly sink: (database: string, table: string) => RowSink | undefined,
  ) {}

  get position(): RowsRead['position'] {
    return this.file ? { file: this.file, at: this.at, id: this.id } : null;
  }

  /** Takes what the program wrote, in any pieces. Throws SourceError and what the sink throws. */
  async take(data: Buffer): Promise<void> {
    let from = 0;
    for (;;) {
      const end = data.indexOf(newline, from);
      if (end < 0) break;
      if (this.parts.length === 0) {
        const wait = this.line(data, from, end);
        if (wait) await wait;
      } else {
        const whole = Buffer.concat([...this.parts, data.subarray(from, end)]);
        this.parts = [];
        this.partsBytes = 0;
        const wait = this.line(whole, 0, whole.length);
        if (wait) await wait;
      }
      from = end + 1;
    }
    if (from === data.length) return;
    // the memory of what was read is used again
    this.parts.push(Buffer.from(data.subarray(from)));
    this.partsBytes += data.length - from;
    if (this.partsBytes > mostLine) throw new SourceError('DUMP_UNREADABLE', 'a row of more than 1 GiB');
  }

  async end(): Promise<void> {
    if (this.partsBytes > 0) throw new SourceError('DUMP_UNREADABLE', 'it ends within a line');
    await this.groups?.end();
    this.groups = undefined;
  }

  private line(data: Buffer, from: number, to: number): Promise<void> | undefined {
    const { prefix } = this;
    const begins = from + prefix.length;
    if (to > begins && data.compare(prefix, 0, prefix.length, from, begins) === 0) return this.groups?.add(data, begins, to - 1);
    if (to - from > insertInto.length && data.compare(insertInto, 0, insertInto.length, from, from + insertInto.length) === 0)
      return this.firstRow(data, from, to);
    this.remark(data.toString('utf8', from, Math.min(to, from + 10_000)));
    return undefined;
  }

  /** The first row of a table. */
  private async firstRow(data: Buffer, from: number, to: number): Promise<void> {
    await this.groups?.end();
    const { name, bytes } = opening(data, from, to);
    const sink = this.sink(this.database, name);
    this.prefix = bytes;
    // what rows look like in the text of the table: a line break before each, none behind the word
    const begins = Buffer.concat([bytes.subarray(0, bytes.length - 1), Buffer.from('\n')]);
    this.groups = sink && new RowGroups(sink, Buffer.concat([Buffer.from('\n'), begins]));
    const wait = this.groups?.add(data, from + bytes.length, to - 1);
    if (wait) await wait;
  }

  private remark(line: string): void {
    if (line.startsWith('USE `')) this.database = nameAt(line, 5).name;
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
  const values = ' VALUES ';
  if (!text.startsWith(values, at)) throw new SourceError('DUMP_UNREADABLE', 'a statement of another form');
  return { name: Buffer.from(table.name, 'latin1').toString(), bytes: Buffer.from(data.subarray(from, from + at + values.length)) };
}

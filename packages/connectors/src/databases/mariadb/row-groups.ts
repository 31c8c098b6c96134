import type { RowSink } from '../family';

const bufferBytes = 256 << 10;
/** Rows of one statement: about so many, and never more bytes. */
const groupMask = 0x3f;
const mostGroup = 256 << 10;
/** A piece ends at a group, about so many bytes after the last one. */
const leastPiece = 4 << 20;
const pieceMask = 0x7c0;
const sampled = 32;

/** FNV-1a over the beginning and the end of a row: decides where groups end, so that a changed row moves nothing but its own group. */
function rowHash(data: Buffer, from: number, to: number): number {
  let h = 0x811c9dc5;
  const first = Math.min(to, from + sampled);
  for (let i = from; i < first; i++) h = Math.imul(h ^ data[i]!, 0x01000193);
  for (let i = Math.max(first, to - sampled); i < to; i++) h = Math.imul(h ^ data[i]!, 0x01000193);
  h ^= h >>> 15;
  return h >>> 0;
}

/** Writes rows as statements of several rows each, one row a line. */
export class RowGroups {
  private readonly out = Buffer.allocUnsafe(bufferBytes);
  private length = 0;
  /** Bytes of the statement that is open; 0 between statements. */
  private group = 0;

  constructor(
    private readonly sink: RowSink,
    private readonly opening: Buffer,
  ) {}

  /** Adds a row, `(…)`. A promise only when something has to be waited for. */
  add(data: Buffer, from: number, to: number): Promise<void> | undefined {
    const room = to - from + this.opening.length + 4;
    if (this.length + room > bufferBytes)
      return this.flush().then(() => (room > bufferBytes ? this.addLarge(data, from, to) : this.add(data, from, to)));
    if (this.group === 0) this.copy(this.opening, 0, this.opening.length);
    this.copy(data, from, to);
    const hash = rowHash(data, from, to);
    this.group += to - from;
    const ends = (hash & groupMask) === 0 || this.group >= mostGroup;
    this.out[this.length++] = ends ? 0x3b : 0x2c;
    this.out[this.length++] = 0x0a;
    if (!ends) return undefined;
    this.group = 0;
    if ((hash & pieceMask) !== 0 || this.sink.open + this.length < leastPiece) return undefined;
    return this.flush().then(() => this.sink.endPiece());
  }

  /** A row larger than the buffer is a statement of its own. */
  private async addLarge(data: Buffer, from: number, to: number): Promise<void> {
    await this.end();
    await this.sink.write(this.opening);
    await this.sink.write(data.subarray(from, to));
    await this.sink.write(Buffer.from(';\n'));
  }

  private copy(data: Buffer, from: number, to: number): void {
    data.copy(this.out, this.length, from, to);
    this.length += to - from;
  }

  private async flush(): Promise<void> {
    const { length } = this;
    if (length === 0) return;
    // what ends the open statement is known only when it does
    const kept = this.group > 0 ? 2 : 0;
    await this.sink.write(this.out.subarray(0, length - kept));
    this.out.copyWithin(0, length - kept, length);
    this.length = kept;
  }

  /** Ends the statement that is open and writes what is left. */
  async end(): Promise<void> {
    if (this.group > 0) this.out[this.length - 2] = 0x3b;
    this.group = 0;
    await this.flush();
  }
}

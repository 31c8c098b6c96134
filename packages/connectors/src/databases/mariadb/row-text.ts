import { copiedAtOnce, escapedCopy, escapedCopyData, type EscapedCopy } from '@lithodex/core';

/** A column as the server describes it before rows of it follow. */
export interface RawColumn {
  /** Number of its type in the protocol. */
  readonly type: number;
  /** Its values are bytes, not text. */
  readonly binary: boolean;
}

/** Types whose values are written without quotes. */
const numbers: ReadonlySet<number> = new Set([0, 1, 2, 3, 4, 5, 8, 9, 13, 246]);
/** Types whose values, where they are bytes, are written as hexadecimal digits: strings of every length, bits, shapes. */
const strings: ReadonlySet<number> = new Set([15, 16, 249, 250, 251, 252, 253, 254, 255]);

const form = { plain: 0, text: 1, hex: 2 } as const;
const nullMark = 251;
const quote = 0x27;
const comma = 0x2c;
const zero = 0x30;
const letterX = 0x78;
const nullText = Buffer.from('NULL');
const rowEnd = Buffer.from(');\n');
const hexDigits = Buffer.from('0123456789ABCDEF');

/** Lines that are passed on at once, bytes. */
const passedAtOnce = 1 << 20;
/** What comes of a connection at once, bytes; more makes room for more. */
const usualChunk = 128 << 10;

/**
 * Writes rows as statements, a line each, as the family's own program does: `INSERT INTO … VALUES (…);`. Numbers stand as they are, bytes as hexadecimal digits, all else as text in quotes in which line breaks,
 * quotes, backslashes and zeros are escaped, so that no line break of a value is one of the text. What is written is gathered while what was gathered before is passed on.
 */
export class RowText {
  private readonly forms: readonly number[];
  /** In its memory: what statements begin with, what came of the connection, and what is written of it. */
  private work: EscapedCopy;
  private heap: Uint8Array;
  private readonly chunkAt: number;
  private textAt: number;
  /** Where what is written ends. */
  private end: number;
  private chunk: Uint8Array | undefined;
  private gathered = Buffer.allocUnsafe(0);
  private passing: Promise<void> | undefined;

  /** `opening`: what each statement begins with, up to its values. `pass`: takes whole lines, whose memory is used again afterwards. */
  constructor(
    private readonly opening: Buffer,
    columns: readonly RawColumn[],
    private readonly pass: (lines: Buffer) => Promise<void>,
  ) {
    this.forms = columns.map(({ type, binary }) => (numbers.has(type) ? form.plain : binary && strings.has(type) ? form.hex : form.text));
    this.chunkAt = escapedCopyData + opening.length + copiedAtOnce;
    this.textAt = this.chunkAt + usualChunk + copiedAtOnce;
    this.end = this.textAt;
    this.work = escapedCopy(this.textAt + passedAtOnce + usualChunk);
    this.heap = new Uint8Array(this.work.memory.buffer);
    this.heap.set(opening, escapedCopyData);
  }

  /**
   * Adds a row as the server sends it (values with their lengths before them). What is the same `data` holds the same bytes as before. Where it gives a promise, more may be added only
   * afterwards.
   */
  add(data: Uint8Array, from: number, to: number): Promise<void> | undefined {
    this.reserve(data.length, this.opening.length + 2 * (to - from) + 5 * this.forms.length + rowEnd.length + copiedAtOnce);
    if (data !== this.chunk) {
      this.heap.set(data, this.chunkAt);
      this.chunk = data;
    }
    this.write(this.chunkAt + from);
    return this.end - this.textAt < passedAtOnce ? undefined : this.passOn();
  }

  /** Makes room for a chunk, and for so many bytes of text. */
  private reserve(chunkBytes: number, bytes: number): void {
    const textAt = Math.max(this.textAt, this.chunkAt + chunkBytes + copiedAtOnce);
    const length = this.end - this.textAt;
    if (textAt === this.textAt && this.end + bytes <= this.heap.length) return;
    const { heap } = this;
    this.work = escapedCopy(textAt + Math.max(length + bytes, passedAtOnce) + usualChunk);
    this.heap = new Uint8Array(this.work.memory.buffer);
    this.heap.set(heap.subarray(escapedCopyData, this.chunkAt), escapedCopyData);
    this.heap.set(heap.subarray(this.textAt, this.end), textAt);
    this.textAt = textAt;
    this.end = textAt + length;
    this.chunk = undefined;
  }

  /** Begins to pass on what is there, when what was there before has been. */
  private passOn(): Promise<void> | undefined {
    if (this.passing) return this.passing.then(() => this.passOn());
    this.passing = this.pass(this.taken()).then(() => {
      this.passing = undefined;
    });
    // told where it is waited for
    this.passing.catch(() => undefined);
    return undefined;
  }

  /** What is written so far, in memory of its own. */
  private taken(): Buffer {
    const length = this.end - this.textAt;
    if (this.gathered.length < length) this.gathered = Buffer.allocUnsafe(length + usualChunk);
    this.gathered.set(this.heap.subarray(this.textAt, this.end));
    this.end = this.textAt;
    return this.gathered.subarray(0, length);
  }

  /** Passes on what is left. Throws what `pass` did. */
  async finish(): Promise<void> {
    await this.passing;
    if (this.end > this.textAt) await this.pass(this.taken());
  }

  /** Writes the row at an address behind what is there. */
  private write(row: number): void {
    const { heap, forms, opening } = this;
    const { work } = this;
    let to = this.end;
    heap.copyWithin(to, escapedCopyData, escapedCopyData + opening.length);
    to += opening.length;
    let at = row;
    for (let i = 0; i < forms.length; i++) {
      if (i > 0) heap[to++] = comma;
      let length = heap[at++]!;
      if (length === nullMark) {
        heap.set(nullText, to);
        to += nullText.length;
        continue;
      }
      if (length > nullMark) [length, at] = packedLength(heap, at - 1);
      if (forms[i] === form.plain) to = work.copy(at, at + length, to);
      else if (forms[i] === form.hex && length > 0) to = this.hex(at, at + length, to);
      else {
        heap[to++] = quote;
        to = work.copy(at, at + length, to);
        heap[to++] = quote;
      }
      at += length;
    }
    heap.set(rowEnd, to);
    this.end = to + rowEnd.length;
  }

  private hex(from: number, end: number, to: number): number {
    const { heap } = this;
    heap[to++] = zero;
    heap[to++] = letterX;
    for (let at = from; at < end; at++) {
      heap[to++] = hexDigits[heap[at]! >> 4]!;
      heap[to++] = hexDigits[heap[at]! & 15]!;
    }
    return to;
  }
}

/** A length of more than 250 bytes, and where the value begins. */
function packedLength(data: Uint8Array, at: number): [length: number, begin: number] {
  const bytes = data[at] === 252 ? 2 : data[at] === 253 ? 3 : 8;
  let length = 0;
  for (let i = bytes; i > 0; i--) length = length * 256 + data[at + i]!;
  return [length, at + 1 + bytes];
}

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
const backslash = 0x5c;
const comma = 0x2c;
const nullText = Buffer.from('NULL');
const rowEnd = Buffer.from(');\n');
const hexDigits = Buffer.from('0123456789ABCDEF');

/** What follows a backslash in the place of a byte; 0 where the byte stands for itself. */
const escapes = new Uint8Array(256);
for (const [byte, letter] of ['\0' + '0', '\nn', '\rr', '\\\\', "''", '""', '\x1aZ'].map(
  (pair) => [pair.charCodeAt(0), pair.charCodeAt(1)] as const,
))
  escapes[byte] = letter;

/** Lines that are passed on at once, bytes. */
const passedAtOnce = 1 << 20;

/**
 * Writes rows as statements, a line each, as the family's own program does: `INSERT INTO … VALUES (…);`. Numbers stand as they are, bytes as hexadecimal digits, all else as text in quotes in which line breaks,
 * quotes, backslashes and zeros are escaped, so that no line break of a value is one of the text. One part of the memory is filled while the other is passed on.
 */
export class RowText {
  private readonly forms: readonly number[];
  private memory = Buffer.allocUnsafe(passedAtOnce + (passedAtOnce >> 2));
  private other = Buffer.allocUnsafe(this.memory.length);
  private length = 0;
  private passing: Promise<void> | undefined;

  /** `opening`: what each statement begins with, up to its values. `pass`: takes whole lines, whose memory is used again afterwards. */
  constructor(
    private readonly opening: Buffer,
    columns: readonly RawColumn[],
    private readonly pass: (lines: Buffer) => Promise<void>,
  ) {
    this.forms = columns.map(({ type, binary }) => (numbers.has(type) ? form.plain : binary && strings.has(type) ? form.hex : form.text));
  }

  /** Adds a row as the server sends it (values with their lengths before them). Where it gives a promise, more may be added only afterwards. */
  add(data: Uint8Array, from: number, to: number): Promise<void> | undefined {
    this.reserve(this.opening.length + 2 * (to - from) + 5 * this.forms.length + rowEnd.length);
    this.length = this.write(data, from);
    return this.length < passedAtOnce ? undefined : this.passOn();
  }

  private reserve(bytes: number): void {
    const needed = this.length + bytes;
    if (needed <= this.memory.length) return;
    const larger = Buffer.allocUnsafe(Math.max(needed, 2 * this.memory.length));
    larger.set(this.memory.subarray(0, this.length));
    this.memory = larger;
  }

  /** Begins to pass on what is there, when what was there before has been. */
  private passOn(): Promise<void> | undefined {
    if (this.passing) return this.passing.then(() => this.passOn());
    const lines = this.memory.subarray(0, this.length);
    [this.memory, this.other] = [this.other, this.memory];
    this.length = 0;
    this.passing = this.pass(lines).then(() => {
      this.passing = undefined;
    });
    // told where it is waited for
    this.passing.catch(() => undefined);
    return undefined;
  }

  /** Passes on what is left. Throws what `pass` did. */
  async end(): Promise<void> {
    await this.passing;
    if (this.length > 0) await this.pass(this.memory.subarray(0, this.length));
    this.length = 0;
  }

  /** Writes a row behind what is there; gives where it ends. */
  private write(data: Uint8Array, from: number): number {
    const { memory, forms, opening } = this;
    let to = this.length;
    memory.set(opening, to);
    to += opening.length;
    let at = from;
    for (let i = 0; i < forms.length; i++) {
      if (i > 0) memory[to++] = comma;
      let length = data[at++]!;
      if (length === nullMark) {
        memory.set(nullText, to);
        to += nullText.length;
        continue;
      }
      if (length > nullMark) [length, at] = packedLength(data, at - 1);
      const end = at + length;
      if (forms[i] === form.plain) while (at < end) memory[to++] = data[at++]!;
      else if (forms[i] === form.hex && length > 0) {
        memory[to++] = 0x30;
        memory[to++] = 0x78;
        for (; at < end; at++) {
          memory[to++] = hexDigits[data[at]! >> 4]!;
          memory[to++] = hexDigits[data[at]! & 15]!;
        }
      } else {
        memory[to++] = quote;
        while (at < end) {
          const byte = data[at++]!;
          const letter = escapes[byte]!;
          if (letter === 0) memory[to++] = byte;
          else {
            memory[to++] = backslash;
            memory[to++] = letter;
          }
        }
        memory[to++] = quote;
      }
    }
    memory.set(rowEnd, to);
    return to + rowEnd.length;
  }
}

/** A length of more than 250 bytes, and where the value begins. */
function packedLength(data: Uint8Array, at: number): [length: number, begin: number] {
  const bytes = data[at] === 252 ? 2 : data[at] === 253 ? 3 : 8;
  let length = 0;
  for (let i = bytes; i > 0; i--) length = length * 256 + data[at + i]!;
  return [length, at + 1 + bytes];
}

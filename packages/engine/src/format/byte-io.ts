/** Whole seconds since the epoch, rounded down, and the nanoseconds beyond them. */
export interface Instant {
  readonly seconds: number;
  readonly nanos: number;
}

/** The instant of a number of nanoseconds since the epoch. */
export function instantOf(ns: bigint): Instant {
  const nanos = Number(((ns % 1_000_000_000n) + 1_000_000_000n) % 1_000_000_000n);
  return { seconds: Number((ns - BigInt(nanos)) / 1_000_000_000n), nanos };
}

/** Growing buffer for the store's binary forms: little-endian, varints of seven bits a byte. */
export class ByteWriter {
  private buffer = Buffer.allocUnsafe(4096);
  length = 0;

  private room(n: number): void {
    if (this.length + n <= this.buffer.length) return;
    const bigger = Buffer.allocUnsafe(Math.max(this.buffer.length * 2, this.length + n));
    this.buffer.copy(bigger, 0, 0, this.length);
    this.buffer = bigger;
  }

  u8(n: number): void {
    this.room(1);
    this.buffer[this.length++] = n;
  }

  u32(n: number): void {
    this.room(4);
    this.length = this.buffer.writeUInt32LE(n >>> 0, this.length);
  }

  /** Unsigned whole number up to 2^53. */
  varint(n: number): void {
    this.room(8);
    while (n >= 128) {
      this.buffer[this.length++] = (n % 128) | 128;
      n = Math.floor(n / 128);
    }
    this.buffer[this.length++] = n;
  }

  /** An instant, as signed seconds (zigzag) and nanoseconds. */
  time({ seconds, nanos }: Instant): void {
    this.varint(seconds >= 0 ? seconds * 2 : -seconds * 2 - 1);
    this.varint(nanos);
  }

  bytes(data: Uint8Array): void {
    this.room(data.length);
    this.buffer.set(data, this.length);
    this.length += data.length;
  }

  /** Byte string with its length in front. */
  text(byteString: string): void {
    this.varint(byteString.length);
    this.room(byteString.length);
    this.length += this.buffer.write(byteString, this.length, 'latin1');
  }

  blob(data: Uint8Array): void {
    this.varint(data.length);
    this.bytes(data);
  }

  /** Copy of what was written. */
  take(): Buffer {
    return Buffer.from(this.buffer.subarray(0, this.length));
  }

  /** What was written, until the next write. */
  view(): Buffer {
    return this.buffer.subarray(0, this.length);
  }

  clear(): void {
    this.length = 0;
  }
}

/** Reads what {@link ByteWriter} wrote. Running past the end throws a RangeError. */
export class ByteReader {
  at = 0;
  constructor(private readonly data: Buffer) {}

  get left(): number {
    return this.data.length - this.at;
  }

  u8(): number {
    this.need(1);
    return this.data[this.at++]!;
  }

  u32(): number {
    this.need(4);
    this.at += 4;
    return this.data.readUInt32LE(this.at - 4);
  }

  varint(): number {
    let value = 0;
    let scale = 1;
    for (let i = 0; i < 8; i++) {
      const byte = this.u8();
      value += (byte & 127) * scale;
      if (byte < 128) return value;
      scale *= 128;
    }
    throw new RangeError('varint too long');
  }

  time(): bigint {
    const zigzag = this.varint();
    const seconds = zigzag % 2 === 0 ? zigzag / 2 : -(zigzag + 1) / 2;
    return BigInt(seconds) * 1_000_000_000n + BigInt(this.varint());
  }

  bytes(length: number): Buffer {
    this.need(length);
    this.at += length;
    return this.data.subarray(this.at - length, this.at);
  }

  text(): string {
    return this.bytes(this.varint()).toString('latin1');
  }

  blob(): Buffer {
    return this.bytes(this.varint());
  }

  private need(n: number): void {
    if (this.at + n > this.data.length) throw new RangeError('ends too early');
  }
}

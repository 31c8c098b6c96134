import type { Readable } from 'node:stream';
import { Transform } from 'node:stream';

/** Somebody outside sent more than makes sense. */
export class TooMuch extends Error {
  readonly code = 'TOO_MUCH';
  constructor(readonly most: number) {
    super(`The answer is larger than ${most} bytes.`);
  }
}

/** The bytes of a stream, in memory of their own. Throws TooMuch, and ends the stream, as soon as there are more than `most`; what it said of its own length is only believed up to that. */
export async function bytesOf(stream: Readable, most: number, said?: number): Promise<Buffer> {
  // a body that is ended early says so by an event as well, which must not end the process
  stream.on('error', () => undefined);
  if (said !== undefined && said > most) {
    stream.destroy();
    throw new TooMuch(most);
  }
  const parts: Buffer[] = [];
  let length = 0;
  for await (const part of stream as AsyncIterable<Buffer>) {
    length += part.length;
    if (length > most) {
      stream.destroy();
      throw new TooMuch(most);
    }
    parts.push(part);
  }
  const whole = Buffer.allocUnsafeSlow(length);
  let at = 0;
  for (const part of parts) at += part.copy(whole, at);
  return whole;
}

/** Passes a stream on as long as there are no more than `most` bytes of it. */
export function atMost(stream: Readable, most: number): Readable {
  let length = 0;
  const limit = new Transform({
    transform(part: Buffer, _encoding, done) {
      length += part.length;
      if (length > most) {
        stream.destroy();
        done(new TooMuch(most));
      } else done(null, part);
    },
  });
  stream.on('error', (error) => limit.destroy(error));
  return stream.pipe(limit);
}

import { once } from 'node:events';
import type { Duplex } from 'node:stream';
import { SourceError } from '../source-error';

/** Bytes before the body of a frame: its length (u32), type (u8) and id (u32), little-endian. */
const headBytes = 9;
/** Most bytes of a body: a piece of a stream and what goes with it. */
const mostBytes = (8 << 20) + 1024;
/** What may wait to be sent, bytes. */
const mostWaiting = 32 << 20;

export interface Frame {
  readonly type: number;
  /** What an answer belongs to; 0 for none. */
  readonly id: number;
  /** In memory of its own. */
  readonly body: Buffer<ArrayBuffer>;
}

/** Frames over a connection between two movers. */
export class FrameLink {
  constructor(private readonly stream: Duplex) {}

  send(type: number, id: number, ...parts: readonly Uint8Array[]): void {
    const length = parts.reduce((sum, p) => sum + p.length, 0);
    const head = Buffer.alloc(headBytes);
    head.writeUInt32LE(length, 0);
    head.writeUInt8(type, 4);
    head.writeUInt32LE(id, 5);
    this.stream.cork();
    this.stream.write(head);
    for (const part of parts) if (part.length) this.stream.write(part);
    this.stream.uncork();
  }

  /** Sends an object as JSON. */
  tell(type: number, id: number, message: object): void {
    this.send(type, id, Buffer.from(JSON.stringify(message)));
  }

  /** Waits while much waits to be sent. Throws what the connection failed with. */
  async drained(): Promise<void> {
    while (this.stream.writableLength > mostWaiting && !this.stream.destroyed) await drainOrEnd(this.stream);
  }

  /** What comes, until the other side ends. Throws LINK_BROKEN for what is no frame, and what the connection fails with. */
  async *frames(): AsyncGenerator<Frame, void, undefined> {
    let head = Buffer.alloc(0);
    let body: Buffer<ArrayBuffer> | undefined;
    let filled = 0;
    for await (const chunk of this.stream as AsyncIterable<Buffer>) {
      for (let at = 0; at < chunk.length;) {
        if (!body) {
          const part = chunk.subarray(at, at + headBytes - head.length);
          head = Buffer.concat([head, part]);
          at += part.length;
          if (head.length < headBytes) continue;
          const length = head.readUInt32LE(0);
          if (length > mostBytes) throw new SourceError('LINK_BROKEN', 'a message is too long');
          body = Buffer.from(new ArrayBuffer(length));
          filled = 0;
        }
        const part = chunk.subarray(at, at + body.length - filled);
        body.set(part, filled);
        filled += part.length;
        at += part.length;
        if (filled < body.length) continue;
        yield { type: head.readUInt8(4), id: head.readUInt32LE(5), body };
        head = Buffer.alloc(0);
        body = undefined;
      }
    }
  }

  /** Sends what waits and ends the connection. */
  end(): void {
    this.stream.end();
  }

  /** Breaks the connection off. */
  destroy(): void {
    this.stream.destroy();
  }
}

/** Resolves when what waited was sent, or nothing will be any more. */
async function drainOrEnd(stream: Duplex): Promise<void> {
  const over = new AbortController();
  try {
    await Promise.race(['drain', 'close'].map((event) => once(stream, event, { signal: over.signal })));
  } finally {
    over.abort();
  }
}

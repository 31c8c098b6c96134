import { once } from 'node:events';
import { mkdtempSync, rmSync } from 'node:fs';
import net, { type Socket } from 'node:net';
import { tmpdir } from 'node:os';
import path from 'node:path';

/** Bytes that are read at once. */
const readAtOnce = 1 << 20;

/** What a program writes, read into memory that is used again: memory of its own for each read would cost more than the reading. */
export class OutputPipe {
  private wake: (() => void) | undefined;
  private found: Buffer | undefined;
  private ended = false;

  private constructor(
    private readonly mine: Socket,
    /** The end that is given to the program. */
    readonly end: Socket,
  ) {}

  static async open(): Promise<OutputPipe> {
    const folder = mkdtempSync(path.join(tmpdir(), 'lithodex-pipe-'));
    const place = path.join(folder, 'pipe');
    const server = net.createServer({ pauseOnConnect: true }).listen(place);
    try {
      await once(server, 'listening');
      const coming = once(server, 'connection') as Promise<[Socket]>;
      let take: (bytes: number, memory: Uint8Array) => boolean = () => false;
      const mine = net.connect({
        path: place,
        onread: { buffer: Buffer.allocUnsafeSlow(readAtOnce), callback: (bytes, memory) => take(bytes, memory) },
      });
      const [end] = await coming;
      const pipe = new OutputPipe(mine, end);
      take = (bytes, memory) => {
        pipe.found = Buffer.from(memory.buffer, memory.byteOffset, bytes);
        pipe.wake?.();
        // nothing more is read before this has been taken
        return false;
      };
      const ends = () => {
        pipe.ended = true;
        pipe.wake?.();
      };
      mine.on('end', ends).on('close', ends).on('error', ends);
      return pipe;
    } finally {
      server.close();
      rmSync(folder, { recursive: true, force: true });
    }
  }

  /** Lets go of the program's end, which it has by now. */
  given(): void {
    this.end.destroy();
  }

  /** What was written next, good until it is asked for again; undefined at the end. */
  async next(): Promise<Buffer | undefined> {
    this.found = undefined;
    if (!this.ended) this.mine.resume();
    while (!this.found && !this.ended) await new Promise<void>((resolve) => (this.wake = resolve));
    return this.found;
  }

  close(): void {
    this.end.destroy();
    this.mine.destroy();
  }
}

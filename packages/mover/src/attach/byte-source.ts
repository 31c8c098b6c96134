import type { Duplex } from 'node:stream';

/** Takes exact numbers of bytes from a stream, one after the other. */
export class ByteSource {
  private waiting: Buffer[] = [];
  private bytes = 0;
  private ended = false;
  private wake: () => void = () => undefined;
  private readonly take = (data: Buffer) => {
    this.waiting.push(data);
    this.bytes += data.length;
    if (this.bytes > this.most) this.stream.pause();
    this.wake();
  };
  private readonly end = () => {
    this.ended = true;
    this.wake();
  };

  constructor(
    private readonly stream: Duplex,
    private readonly most = 1 << 20,
  ) {
    stream.on('data', this.take).on('close', this.end).on('end', this.end);
  }

  /** Leaves the stream to somebody else. */
  release(): void {
    this.stream.off('data', this.take).off('close', this.end).off('end', this.end);
    this.stream.pause();
    const rest = Buffer.concat(this.waiting);
    if (rest.length) this.stream.unshift(rest);
  }

  /** Undefined at the end of the stream. */
  async next(count: number): Promise<Buffer | undefined> {
    while (this.bytes < count) {
      if (this.ended) return undefined;
      this.stream.resume();
      await new Promise<void>((resume) => {
        this.wake = resume;
      });
    }
    const all = this.waiting.length === 1 ? this.waiting[0]! : Buffer.concat(this.waiting);
    const rest = all.subarray(count);
    this.waiting = rest.length ? [rest] : [];
    this.bytes = rest.length;
    return all.subarray(0, count);
  }
}

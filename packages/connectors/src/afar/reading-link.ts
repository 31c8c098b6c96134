import type { Duplex } from 'node:stream';
import type { PutChunk } from '@lithodex/engine';
import { SourceError } from '../source-error';
import { FrameLink } from './frames';
import { Brief, fromKeeper, fromReader, nonceBytes, numberAt, parsed } from './messages';

/** The side of a mover that reads only: asks, and is answered by the one that keeps. */
export class ReadingLink {
  private readonly link: FrameLink;
  private readonly waiting = new Map<number, { resolve: (body: Buffer) => void; reject: (error: Error) => void }>();
  private nextId = 1;
  private nodes = 0n;
  private nonce = Buffer.alloc(nonceBytes);
  private failure: Error | undefined;

  constructor(stream: Duplex) {
    this.link = new FrameLink(stream);
  }

  /** Whether the other side has gone. */
  get lost(): boolean {
    return this.failure !== undefined;
  }

  /** What is to be done; answers are heard from then on. Throws KEEPER_LOST. */
  async brief(): Promise<Brief> {
    const frames = this.link.frames();
    const first = await frames.next();
    if (first.done || first.value.type !== fromKeeper.brief) throw new SourceError('KEEPER_LOST');
    const brief = parsed(Brief, first.value.body);
    this.nonce = Buffer.from(brief.nonce, 'hex');
    void this.listen(frames);
    return brief;
  }

  private async listen(frames: ReturnType<FrameLink['frames']>): Promise<void> {
    try {
      for await (const { id, body } of frames) {
        this.waiting.get(id)?.resolve(body);
        this.waiting.delete(id);
      }
    } catch {
      // said to who waits
    }
    this.failure = new SourceError('KEEPER_LOST');
    for (const { reject } of this.waiting.values()) reject(this.failure);
    this.waiting.clear();
  }

  ask(type: number, ...parts: Uint8Array[]): Promise<Buffer> {
    if (this.failure) return Promise.reject(this.failure);
    const id = this.nextId++;
    const answer = new Promise<Buffer>((resolve, reject) => {
      this.waiting.set(id, { resolve, reject });
    });
    this.link.send(type, id, ...parts);
    return answer;
  }

  tell(type: number, message: object): void {
    if (!this.failure) this.link.tell(type, 0, message);
  }

  /** Sends a tree node; it is spoken of by a stand-in for its name, which only the mover that keeps knows. */
  readonly put: PutChunk = (data) => {
    if (this.failure) throw this.failure;
    // who calls goes on to write into the same memory
    this.link.send(fromReader.put, 0, Buffer.from(data));
    const name = Buffer.alloc(32);
    this.nonce.copy(name);
    name.writeBigUInt64BE(this.nodes++, numberAt);
    return name;
  };

  drained(): Promise<void> {
    return this.link.drained();
  }

  /** Sends what waits and ends. */
  end(): void {
    this.link.end();
  }
}

import { storeContent, type PutChunk } from '../tree/tree-writer';
import type { Content, TreeEntry } from '../tree/tree-entry';
import { segmentBytes, type SegmentDone } from './crunch';
import type { CapturePool } from './capture-pool';

/** What a stream has become. */
export interface StreamStored extends Pick<TreeEntry, 'content'> {
  /** Bytes. */
  readonly size: number;
  /** Its beginning looks random. */
  readonly random: boolean;
}

/** Bytes that a stream begins with. */
const smallStream = 64 << 10;
/** Most pieces of a stream that are under way: what waits for threads is memory. */
const mostUnderWay = 4;
const nothing: Content = { names: Buffer.alloc(0), lengths: [] };

/**
 * Stores what an API or a dump gives, piece by piece as it comes. Pieces are cut apart from each other, so several threads work on one stream; who writes it may say where a
 * piece ends, so that the same rows make the same pieces wherever they stand.
 */
export class StreamContent {
  private buffer: Buffer = Buffer.alloc(0);
  private length = 0;
  private size = 0;
  private readonly pieces: Promise<SegmentDone>[] = [];

  constructor(
    private readonly pool: CapturePool,
    private readonly put: PutChunk,
  ) {}

  /** Bytes in the piece that is not closed yet. */
  get open(): number {
    return this.length;
  }

  /** Adds bytes, which are copied; waits while the threads have enough to do. Throws what a thread failed with. */
  async write(data: Uint8Array): Promise<void> {
    for (let at = 0; at < data.length;) {
      if (this.length === segmentBytes) await this.endPiece();
      const part = data.subarray(at, at + segmentBytes - this.length);
      this.reserve(this.length + part.length);
      this.buffer.set(part, this.length);
      this.length += part.length;
      at += part.length;
    }
  }

  private reserve(bytes: number): void {
    if (bytes <= this.buffer.length) return;
    // most streams are short; what is not gets all at once
    const larger = bytes <= smallStream ? Buffer.allocUnsafeSlow(smallStream) : Buffer.from(this.pool.segmentMemory());
    larger.set(this.buffer.subarray(0, this.length));
    this.buffer = larger;
  }

  /** Ends a piece here. */
  async endPiece(): Promise<void> {
    if (this.length === 0) return;
    const data = this.buffer.subarray(0, this.length);
    this.size += this.length;
    this.buffer = Buffer.alloc(0);
    this.length = 0;
    const { done } = await this.pool.segment(data);
    // told where it is waited for
    done.catch(() => undefined);
    this.pieces.push(done);
    if (this.pieces.length >= mostUnderWay) await this.pieces[this.pieces.length - mostUnderWay];
  }

  /** Waits for all of it. `behind`: chunks of before that it goes on from; the size is without them. Throws what a thread failed with. */
  async finish(behind: Content = nothing): Promise<StreamStored> {
    await this.endPiece();
    const done = await Promise.all(this.pieces);
    const names = Buffer.concat([behind.names, ...done.map((d) => d.names)]);
    const lengths = [...behind.lengths, ...done.flatMap((d) => [...d.lengths])];
    const random = done[0]?.random ?? false;
    return { size: this.size, random, ...(lengths.length && { content: storeContent(this.put, { names, lengths }) }) };
  }
}

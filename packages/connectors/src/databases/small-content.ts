import { storeContent, type Content, type PutChunk, type StreamStored } from '@lithodex/engine';

/** A stream of at most so many bytes is stored as one chunk, beside the folders that name it: what comes every second or so makes fewer objects on its target. */
export const smallBytes = 64 << 10;

/** Takes what is small and stores it at its end. */
export class SmallContent {
  private readonly parts: Buffer[] = [];

  constructor(private readonly put: PutChunk) {}

  /** Adds bytes, which are copied. */
  write(data: Uint8Array): Promise<void> {
    this.parts.push(Buffer.from(data));
    return Promise.resolve();
  }

  /** Stores it behind chunks of before; the size is without them. */
  finish(behind: Content = { names: Buffer.alloc(0), lengths: [] }): Promise<StreamStored> {
    const data = Buffer.concat(this.parts);
    const content = { names: Buffer.concat([behind.names, this.put(data)]), lengths: [...behind.lengths, data.length] };
    return Promise.resolve({ size: data.length, random: false, content: storeContent(this.put, content) });
  }
}

import {
  EngineError,
  FileReading,
  readAt,
  segmentBytes,
  type FileStream,
  type PutChunk,
  type ReadContent,
  type SegmentDone,
} from '@lithodex/engine';

/** Files of some folders, read here and cut and stored by the mover that keeps. */
export class SentFiles extends FileReading {
  constructor(
    private readonly piece: (data: Uint8Array) => Promise<SegmentDone>,
    protected readonly list: PutChunk,
    private readonly stopped: () => boolean,
  ) {
    super();
  }

  protected goOn(): void {
    if (this.stopped()) throw new EngineError('STOPPED');
  }

  protected between(): undefined {
    return undefined;
  }

  protected async whole(fd: number, size: number): Promise<ReadContent> {
    const data = Buffer.allocUnsafe(size);
    let read = 0;
    while (read < size) {
      const got = readAt(fd, data.subarray(read), size - read, read);
      if (got === 0) break;
      read += got;
    }
    if (read === 0) return { names: Buffer.alloc(0), lengths: [], read, short: size > 0, random: false };
    const { names, lengths, random } = await this.piece(data.subarray(0, read));
    return { names: Buffer.from(names), lengths: [...lengths], read, short: read < size, random };
  }

  protected async stream(stream: FileStream): Promise<ReadContent> {
    const pieces: Promise<SegmentDone>[] = [];
    while (stream.left > 0) {
      this.goOn();
      const data = Buffer.allocUnsafeSlow(Math.min(segmentBytes, stream.left));
      const length = stream.fill(data, 0);
      if (length === 0) break;
      const piece = this.piece(data.subarray(0, length));
      // told where it is waited for
      piece.catch(() => undefined);
      pieces.push(piece);
      if (pieces.length > 1) await pieces[pieces.length - 2];
    }
    const done = await Promise.all(pieces);
    return {
      names: Buffer.concat(done.map((d) => d.names)),
      lengths: done.flatMap((d) => [...d.lengths]),
      read: stream.read,
      short: stream.short,
      random: done[0]?.random ?? false,
    };
  }
}

import {
  FileResults,
  readResults,
  segmentBytes,
  type BlockJob,
  type BlocksDone,
  type CapturePool,
  type FileJobs,
  type FileResult,
  type SegmentDone,
} from '@lithodex/engine';
import { decodeSegment, fromReader } from './messages';
import type { ReadingLink } from './reading-link';
import { SentFiles } from './sent-files';

/** Batches of files that are read side by side: while one waits for an answer, another is read. */
const mostBatches = 8;
/** What may be under way without an answer, bytes. */
const mostBytes = 64 << 20;

/** Hands what a capture reads to the mover that keeps. */
export class SentPool implements CapturePool {
  private bytes = 0;
  private pieces = 0;
  private readonly batches = new Set<Promise<void>>();
  private failure: { readonly error: unknown } | undefined;
  private wake: () => void = () => undefined;
  private change = new Promise<void>((resolve) => (this.wake = resolve));

  constructor(
    private readonly link: ReadingLink,
    private readonly stopped: () => boolean,
  ) {}

  private changed(): void {
    this.wake();
    this.change = new Promise<void>((resolve) => (this.wake = resolve));
  }

  private async until(ready: () => boolean): Promise<void> {
    while (!this.failure && !ready()) await this.change;
    if (this.failure) throw this.failure.error;
  }

  async submit(jobs: FileJobs, _weight: number, done: (result: FileResult, at: number) => void): Promise<void> {
    await this.until(() => this.batches.size < mostBatches);
    const results = new FileResults();
    const batch = new SentFiles((data) => this.piece(data), this.link.put, this.stopped)
      .files(jobs, results)
      .then(() => {
        readResults(results.take(), done);
      })
      .catch((error: unknown) => {
        this.failure ??= { error };
      })
      .finally(() => {
        this.batches.delete(batch);
        this.changed();
      });
    this.batches.add(batch);
  }

  private async piece(data: Uint8Array): Promise<SegmentDone> {
    return (await this.segment(data as Uint8Array<ArrayBuffer>)).done;
  }

  async segment(data: Uint8Array<ArrayBuffer>): Promise<{ readonly done: Promise<SegmentDone> }> {
    const { answer } = await this.send(data.length, () => this.link.ask(fromReader.segment, data));
    return { done: answer.then((body) => ({ ...decodeSegment(body), memory: new ArrayBuffer(0) })) };
  }

  async blocks({ data, block }: BlockJob): Promise<BlocksDone> {
    const size = Buffer.alloc(4);
    size.writeUInt32LE(block);
    const body = await (await this.send(data.length, () => this.link.ask(fromReader.blocks, size, data))).answer;
    return { random: body.readUInt32LE(0), names: body.subarray(4) };
  }

  /** Sends when there is room for more. */
  private async send(bytes: number, ask: () => Promise<Buffer>): Promise<{ answer: Promise<Buffer> }> {
    await this.until(() => this.bytes < mostBytes);
    this.bytes += bytes;
    this.pieces++;
    const answer = ask().finally(() => {
      this.bytes -= bytes;
      this.pieces--;
      this.changed();
    });
    return { answer };
  }

  segmentMemory(): ArrayBuffer {
    return new ArrayBuffer(segmentBytes);
  }

  async breathe(): Promise<void> {
    await new Promise((resume) => setImmediate(resume));
  }

  idle(): Promise<void> {
    return this.until(() => this.batches.size + this.pieces === 0);
  }
}

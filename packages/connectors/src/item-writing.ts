import { createHash } from 'node:crypto';
import { escapePath, pathFilter, type PathFilter } from '@lithodex/core';
import {
  EngineError,
  storeContent,
  StreamContent,
  type SegmentDone,
  type StreamStored,
  type TreeEntry,
  type WriteCounts,
} from '@lithodex/engine';
import type { PointWriting } from './capture-store';
import type { CaptureContext, PointContent } from './connector';

/** What a capture of items that come over a network stores, and what it came to so far. */
export class ItemWriting {
  readonly progress = { items: 0, bytes: 0, read: 0, files: 0 };
  warnings = 0;
  private readonly filter: PathFilter;
  /** Whether anything is left out by a rule. */
  protected readonly filters: boolean;

  constructor(
    readonly ctx: CaptureContext,
    protected readonly writing: PointWriting,
  ) {
    this.filter = pathFilter(ctx.include, ctx.exclude);
    this.filters = ctx.include.length + ctx.exclude.length > 0;
  }

  /** Throws STOPPED when it is to end. */
  goOn(): void {
    if (this.ctx.stopped()) throw new EngineError('STOPPED');
  }

  leftOut(path: string, isFolder: boolean): boolean {
    return this.filter.leftOut(path, isFolder);
  }

  warn(code: string, path: string, message: string, missing: boolean): void {
    this.warnings++;
    this.ctx.warn({ code, path: path === '' ? '' : escapePath(path), message, missing });
  }

  note(code: string, path: string, message: string): void {
    this.ctx.note({ code, path: path === '' ? '' : escapePath(path), message });
  }

  /** Stores what is in memory; `cuts`: where pieces of it begin that may be found again. */
  async content(data: Buffer, cuts: readonly number[] = []): Promise<StreamStored> {
    const { pool, put } = this.writing;
    const pieces: Promise<SegmentDone>[] = [];
    let from = 0;
    for (const cut of [...cuts, data.length].sort((a, b) => a - b)) {
      if (cut <= from) continue;
      // the threads get memory of their own, no larger than it has to be
      const own = Buffer.allocUnsafeSlow(cut - from);
      data.copy(own, 0, from, cut);
      from = cut;
      const { done } = await pool.segment(own);
      // told where it is waited for
      done.catch(() => undefined);
      pieces.push(done);
    }
    this.moved(data.length);
    const done = await Promise.all(pieces);
    const content = { names: Buffer.concat(done.map((d) => d.names)), lengths: done.flatMap((d) => [...d.lengths]) };
    const stored = content.lengths.length > 0 && { content: storeContent(put, content) };
    return { size: data.length, random: done[0]?.random ?? false, ...stored };
  }

  /** Stores what comes piece by piece. Gives its SHA-256 as well. */
  async streamed(pieces: AsyncIterable<Uint8Array>): Promise<StreamStored & { readonly sum: string }> {
    const stream = new StreamContent(this.writing.pool, this.writing.put);
    const sum = createHash('sha256');
    for await (const piece of pieces) {
      this.goOn();
      sum.update(piece);
      await stream.write(piece);
      this.moved(piece.length);
      await this.writing.drain();
    }
    return { ...(await stream.finish()), sum: sum.digest('hex') };
  }

  private moved(bytes: number): void {
    this.progress.read += bytes;
    this.progress.bytes += bytes;
  }

  /** What a point of all of it holds, once everything is stored. */
  pointOf(top: TreeEntry, counts: WriteCounts, content: PointContent['content']): PointContent {
    const { items = 0, bytes = 0 } = top.folder ?? {};
    const { include, exclude } = this.ctx;
    return {
      top,
      totals: { items, files: this.progress.files, bytes, read: this.progress.read, ...counts },
      owners: {},
      groups: {},
      leftOut: { include, exclude, byItself: [] },
      warnings: this.warnings,
      content,
    };
  }

  /** Lets tree nodes go out and tells how far it is. */
  async passed(): Promise<void> {
    await this.writing.drain();
    this.ctx.progress(this.progress, this.writing.packed);
  }
}

import { EngineError, engineErrors, type EngineErrorCode } from '../errors';
import { ByteReader } from '../format/byte-io';
import { PackToc } from '../format/toc';
import type { ClaimTable } from '../index/claim-table';
import type { KeySet } from '../keys/key-set';
import type { WriteCounts } from '../store/chunk-writer';
import type { TargetPlace } from '../targets/place';
import { ThreadPool, weightOf, type PoolThread } from '../threads/thread-pool';
import type { CapturePool } from './capture-pool';
import { handedOver, segmentBytes, type BlockJob, type BlocksDone, type SegmentDone } from './crunch';
import type { FileJobs } from './file-reading';
import { readResults, type FileResult } from './file-results';

interface CrunchData {
  readonly place: TargetPlace;
  readonly nameKey: Uint8Array;
  readonly dataKey: Uint8Array;
}
export type CrunchStart = CrunchData & PoolThread;

export type CrunchRequest =
  | { readonly type: 'begin'; readonly claims: SharedArrayBuffer }
  | { readonly type: 'files'; readonly id: number; readonly jobs: FileJobs }
  | { readonly type: 'blocks'; readonly id: number; readonly job: BlockJob }
  | { readonly type: 'segment'; readonly id: number; readonly data: Uint8Array }
  | { readonly type: 'finish' };

export type CrunchReply =
  | { readonly type: 'files'; readonly id: number; readonly results: Uint8Array }
  | { readonly type: 'blocks'; readonly id: number; readonly done: BlocksDone }
  | { readonly type: 'segment'; readonly id: number; readonly done: SegmentDone }
  | { readonly type: 'pack'; readonly toc: Uint8Array }
  | { readonly type: 'finished'; readonly counts: WriteCounts }
  | { readonly type: 'failed'; readonly code: string; readonly details: string };

/** Who waits for what a thread makes of bytes that were handed over. */
interface Waiting {
  readonly resolve: (done: BlocksDone | SegmentDone) => void;
  readonly reject: (error: Error) => void;
}

/**
 * Some crunch threads with back-pressure: `submit` waits while every thread has enough to do. A pool serves one run after another, each between `begin` and
 * `finish`; after a failure it must be closed.
 */
export class CrunchPool implements CapturePool {
  private readonly pool: ThreadPool<CrunchRequest, CrunchReply>;
  /** Of the run that goes on; undefined once the threads were told. */
  private untold: (() => ClaimTable) | undefined;
  private readonly answers = new Map<number, (result: FileResult, at: number) => void>();
  private readonly waiting = new Map<number, Waiting>();
  private readonly memory: ArrayBufferLike[] = [];
  private failure: EngineError | undefined;
  private nextId = 1;
  private finished: WriteCounts[] = [];

  private onPack: (toc: PackToc) => void = () => undefined;

  constructor(keys: KeySet, place: TargetPlace, size: number) {
    const data: CrunchData = { place, nameKey: keys.nameKey, dataKey: keys.dataKey };
    this.pool = new ThreadPool(data, {
      file: 'crunch-thread',
      size,
      mostWaiting: 64,
      onReply: (reply) => this.take(reply),
      onBroken: (error) => this.fail(new EngineError('TARGET_REFUSED', String(error), { cause: error })),
    });
  }

  private take(reply: CrunchReply): boolean {
    if (reply.type === 'files') {
      readResults(reply.results, this.answers.get(reply.id)!);
      this.answers.delete(reply.id);
    } else if (reply.type === 'blocks' || reply.type === 'segment') {
      if (reply.type === 'segment' && reply.done.memory.byteLength === segmentBytes) this.memory.push(reply.done.memory);
      // nobody waits any more where another thread has failed
      this.waiting.get(reply.id)?.resolve(reply.done);
      this.waiting.delete(reply.id);
    } else if (reply.type === 'pack') this.onPack(PackToc.decode(new ByteReader(Buffer.from(reply.toc.buffer))));
    else if (reply.type === 'finished') this.finished.push(reply.counts);
    else this.fail(new EngineError(reply.code in engineErrors ? (reply.code as EngineErrorCode) : 'TARGET_REFUSED', reply.details));
    return reply.type === 'files' || reply.type === 'blocks' || reply.type === 'segment';
  }

  /** Starts a run: chunks in `claims`, which are asked for when something is to be stored, count as stored, `onPack` learns of every pack written. */
  begin(claims: () => ClaimTable, onPack: (toc: PackToc) => void): void {
    this.onPack = onPack;
    this.finished = [];
    this.untold = claims;
  }

  private fail(error: EngineError): void {
    this.failure ??= error;
    for (const { reject } of this.waiting.values()) reject(this.failure);
    this.waiting.clear();
  }

  private async until(ready: () => boolean): Promise<void> {
    while (!this.failure && !ready()) await this.pool.change();
    if (this.failure) throw this.failure;
  }

  /** Hands a batch of so much work (see {@link weightOf}) to the least busy thread; resolves when it is taken, `done` runs for every file later. A run that finds nothing new starts no threads. */
  async submit(jobs: FileJobs, weight: number, done: (result: FileResult, at: number) => void): Promise<void> {
    const id = await this.admit();
    this.answers.set(id, done);
    this.pool.send({ type: 'files', id, jobs }, weight);
  }

  /** Stores blocks of an image, whose memory is handed over. Throws what a thread failed with. */
  async blocks(job: BlockJob): Promise<BlocksDone> {
    const id = await this.admit();
    const answer = this.answerTo<BlocksDone>(id);
    this.pool.send({ type: 'blocks', id, job }, weightOf(1, job.data.length), [job.data.buffer as ArrayBuffer]);
    return answer;
  }

  /** Takes a piece of a stream, whose memory is handed over, when a thread has room for it; `done` tells how it was cut, or throws what the thread failed with. */
  async segment(data: Uint8Array): Promise<{ readonly done: Promise<SegmentDone> }> {
    const id = await this.admit();
    const done = this.answerTo<SegmentDone>(id);
    this.pool.send({ type: 'segment', id, data }, weightOf(1, data.length), handedOver(data.buffer));
    return { done };
  }

  /** Memory for a piece of a stream: some that was used before, where there is any. It is shared: what goes to and fro between threads is counted anew each time, and cleared away after. */
  segmentMemory(): ArrayBufferLike {
    return this.memory.pop() ?? new SharedArrayBuffer(segmentBytes);
  }

  private answerTo<T extends BlocksDone | SegmentDone>(id: number): Promise<T> {
    return new Promise<T>((resolve, reject) => {
      this.waiting.set(id, { resolve: resolve as Waiting['resolve'], reject });
    });
  }

  private async admit(): Promise<number> {
    this.pool.start();
    if (this.untold) this.pool.tell({ type: 'begin', claims: this.untold().memory });
    this.untold = undefined;
    await this.until(() => !this.pool.busy);
    return this.nextId++;
  }

  /** See {@link ThreadPool.breathe}. */
  breathe(): Promise<void> {
    return this.pool.breathe();
  }

  /** Waits until every batch is done. Throws what a thread failed with. */
  async idle(): Promise<void> {
    await this.until(() => this.answers.size + this.waiting.size === 0);
  }

  /** Writes what is left and returns the sums over all threads. */
  async finish(): Promise<WriteCounts> {
    await this.idle();
    this.memory.length = 0;
    if (this.untold) return { fresh: 0, stored: 0 };
    this.pool.tell({ type: 'finish' });
    await this.until(() => this.finished.length === this.pool.running);
    return this.finished.reduce((a, b) => ({ fresh: a.fresh + b.fresh, stored: a.stored + b.stored }), { fresh: 0, stored: 0 });
  }

  async close(): Promise<void> {
    await this.pool.close();
  }
}

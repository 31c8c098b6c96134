import {
  ByteReader,
  EngineError,
  engineErrors,
  helpsElsewhere,
  packEntry,
  readEntry,
  weightOf,
  type ChunkLocation,
  type EngineErrorCode,
  type EntryCursor,
  type Store,
} from '@lithodex/engine';
import { placeFile, reason, type FileToPlace } from './place-file';
import type { ReadableTree } from '../readable-tree';
import { PlaceBatch, type PlacedChunk, type StoredFile } from './place-message';
import { placeThreads, type PlacePool, type PlaceProblem, type PlaceReceiver } from './place-pool';

/** What became of a file. */
export interface Placed {
  /** Why it could not be made; '' when it was. */
  readonly failed: string;
  /** Properties that could not be set. */
  readonly notSet: readonly string[];
  /** Nothing more can be written at all. */
  readonly fatal?: EngineError;
  /** A part of it is lost where it was looked for. */
  readonly lost?: boolean;
}

const fine: Placed = { failed: '', notSet: [] };

/** Turns what placing threw into an outcome; running out of room and being stopped end everything. */
export function outcomeOf(error: unknown): Placed {
  const code = (error as { code?: unknown }).code;
  if (code === 'ENOSPC')
    return { ...fine, failed: reason(error), fatal: new EngineError('TARGET_FULL', 'no room left at the destination', { cause: error }) };
  if (error instanceof EngineError && error.code === 'STOPPED') return { ...fine, failed: 'stopped', fatal: error };
  return { ...fine, failed: reason(error), ...(helpsElsewhere(error) && { lost: true }) };
}

/** Threads for a target, and where they find what is stored there. */
export interface PlaceThreads {
  readonly pool: PlacePool;
  readonly locate: (name: Buffer) => ChunkLocation;
}

export function threadsOf(store: Pick<Store, 'reader'>, pool: PlacePool): PlaceThreads {
  return { pool, locate: (name) => store.reader.locate(name) };
}

export interface PlacerOptions {
  readonly tree: ReadableTree;
  /** Threads for the target of what is stored, once stopped or failed they can only be closed; undefined for what is not, which is placed in this thread. */
  readonly threads: PlaceThreads | undefined;
  readonly onBytes: (bytes: number) => void;
  readonly stopped: () => boolean;
}

const batchFiles = 256;
const batchBytes = 8 << 20;
/** Files and bytes placed before threads are started: a small restore is done sooner without. */
const filesWithoutThreads = 200;
const bytesWithoutThreads = 16 << 20;
/** Files with more chunks are placed in this thread, part by part. */
const mostChunks = 4096;

/** Files gathered for one thread, or for any. */
class Lane {
  batch = new PlaceBatch();
  waiting: Waiting[] = [];

  constructor(readonly thread: number | undefined) {}

  get full(): boolean {
    return this.batch.count >= batchFiles || this.batch.bytes >= batchBytes;
  }

  add(file: StoredFile, chunks: readonly PlacedChunk[], waiting: Waiting): void {
    this.batch.add(file, chunks);
    this.waiting.push(waiting);
  }

  /** Hands over what has been gathered and begins anew. */
  take(): Pick<Lane, 'batch' | 'waiting'> {
    const { batch, waiting } = this;
    this.batch = new PlaceBatch();
    this.waiting = [];
    return { batch, waiting };
  }
}

/**
 * Thread that reads a block. Of every few blocks that follow each other in a pack each thread has one, so that their number is about the same; which has which is left to the random bits of
 * the pack's id, so that it is also about the same of those that are wanted, whatever order they were written in.
 */
function laneOf({ packId, block }: ChunkLocation): number {
  const group = Math.floor(block / placeThreads);
  return (packId[group % packId.length]! + block) % placeThreads;
}

interface Waiting {
  /** The file, should it have to be placed in this thread after all. */
  readonly file: () => FileToPlace;
  readonly settle: (placed: Placed) => void;
}

/**
 * Places files, in this thread while they are few, in threads of their own when there are many. Small files whose content lies in the same block go to the same thread, so that each block is
 * read and opened once.
 */
export class Placer implements PlaceReceiver {
  private readonly lanes = Array.from({ length: placeThreads }, (_, thread) => new Lane(thread));
  private readonly anyThread = new Lane(undefined);
  private fullLane: Lane | undefined;
  private readonly answers = new Map<number, readonly Waiting[]>();
  private retrying = 0;
  private nextId = 1;
  private filesHere = 0;
  private bytesHere = 0;
  private watch: NodeJS.Timeout | undefined;

  constructor(private readonly options: PlacerOptions) {
    if (options.threads) options.threads.pool.receiver = this;
  }

  /** Takes a file, waiting while there is enough to do; `outcome` resolves when it is placed and never rejects. Files may wait until {@link flush}. */
  async place(file: FileToPlace): Promise<{ readonly outcome: Promise<Placed> }> {
    const { content } = file.entry;
    const chunks = content === undefined ? 0 : 'lists' in content ? content.count : content.lengths.length;
    if (!this.manyWith(file.entry.size) || chunks > mostChunks) {
      this.filesHere++;
      this.bytesHere += file.entry.size;
      return { outcome: Promise.resolve(await this.here(file)) };
    }
    let located: readonly PlacedChunk[];
    try {
      located = await this.located(file);
    } catch (error) {
      return { outcome: Promise.resolve(helpsElsewhere(error) ? await this.here(file) : outcomeOf(error)) };
    }
    const outcome = new Promise<Placed>((settle) => {
      this.gather({ ...file, entry: packEntry(file.entry).data, size: file.entry.size }, located, { file: () => file, settle });
    });
    await this.flushIfFull();
    return { outcome };
  }

  /** Whether there has been so much that threads are worth their start, if `bytes` more come. */
  manyWith(bytes: number): boolean {
    if (!this.options.threads) return false;
    return this.filesHere >= filesWithoutThreads || this.bytesHere + bytes >= bytesWithoutThreads;
  }

  /**
   * Takes a plain file as it is stored, under the name it has; `settle` learns what became of it. Returns false when it can not be taken in this way; otherwise
   * {@link flushIfFull} must be called next.
   */
  placeStored(folder: number, at: EntryCursor, temporary: string, settle: (placed: Placed) => void): boolean {
    const chunks: PlacedChunk[] = [];
    try {
      at.chunks((name, length) => {
        const location = this.locate(name);
        if (location.length !== length) throw new EngineError('OBJECT_DAMAGED', 'a chunk is not as long as the file says');
        chunks.push({ name, location });
      });
    } catch (error) {
      if (error instanceof EngineError) return false;
      throw error;
    }
    const entry = at.bytes();
    const file = () => ({ folder, temporary, replace: false, entry: readEntry(new ByteReader(entry)) });
    this.gather({ folder, temporary, replace: false, entry, size: at.size }, chunks, { file, settle });
    return true;
  }

  private get pool(): PlacePool {
    if (!this.options.threads) throw new RangeError('no threads to place what is not stored');
    return this.options.threads.pool;
  }

  private locate(name: Buffer): ChunkLocation {
    if (!this.options.threads) throw new EngineError('CHUNK_MISSING', 'not stored');
    return this.options.threads.locate(name);
  }

  private gather(file: StoredFile, chunks: readonly PlacedChunk[], waiting: Waiting): void {
    const lane = chunks.length === 1 ? this.lanes[laneOf(chunks[0]!.location)]! : this.anyThread;
    lane.add(file, chunks, waiting);
    if (lane.full) this.fullLane = lane;
  }

  /** Sends what has been gathered when it is enough; a promise when there is something to wait for. */
  flushIfFull(): Promise<void> | undefined {
    const lane = this.fullLane;
    this.fullLane = undefined;
    return lane && this.send(lane);
  }

  private async located({ entry }: FileToPlace) {
    const chunks = [];
    for await (const part of this.options.tree.trees.contentParts(entry.content))
      for (let i = 0; i < part.lengths.length; i++) {
        const name = part.names.subarray(i * 32, i * 32 + 32);
        const location = this.locate(name);
        if (location.length !== part.lengths[i]) throw new EngineError('OBJECT_DAMAGED', 'a chunk is not as long as the file says');
        chunks.push({ name, location });
      }
    return chunks;
  }

  private async here(file: FileToPlace): Promise<Placed> {
    const {
      tree: { trees, chunks },
      onBytes,
      stopped,
    } = this.options;
    async function* content() {
      for await (const part of trees.contentParts(file.entry.content))
        for (const [i, length] of part.lengths.entries()) {
          if (stopped()) throw new EngineError('STOPPED');
          const data = await chunks.read(part.names.subarray(i * 32, i * 32 + 32));
          if (data.length !== length) throw new EngineError('OBJECT_DAMAGED', 'a chunk is not as long as the file says');
          yield data;
          onBytes(length);
        }
    }
    const parts = content();
    try {
      return { ...fine, notSet: await placeFile(file, async () => (await parts.next()).value ?? undefined) };
    } catch (error) {
      return outcomeOf(error);
    }
  }

  /** Sends what has been gathered. */
  async flush(): Promise<void> {
    for (const lane of [...this.lanes, this.anyThread]) await this.send(lane);
  }

  private async send(lane: Lane): Promise<void> {
    const { batch, waiting } = lane.take();
    if (batch.count === 0) return;
    this.start();
    while (this.pool.busy) await this.pool.change();
    const id = this.nextId++;
    this.answers.set(id, waiting);
    const data = batch.take();
    // those of one thread stay in order, so that a block is not asked for again when it has been let go
    const weight = lane.thread === undefined ? weightOf(batch.count, batch.bytes) : 0;
    this.pool.send({ type: 'files', id, batch: data }, weight, [data.buffer], lane.thread);
  }

  /** Waits until everything that was taken is placed. */
  async idle(): Promise<void> {
    await this.flush();
    while (this.answers.size || this.retrying) await this.pool.change();
  }

  private start(): void {
    this.pool.start();
    this.watch ??= setInterval(() => {
      if (this.options.stopped()) this.pool.halt();
    }, 100);
  }

  onBytes(bytes: number): void {
    this.options.onBytes(bytes);
  }

  onBroken(error: Error): void {
    const fatal = new EngineError('TARGET_REFUSED', String(error), { cause: error });
    for (const [id, waiting] of this.answers) {
      this.answers.delete(id);
      for (const { settle } of waiting) settle({ ...fine, failed: reason(error), fatal });
    }
  }

  onPlaced(id: number, problems: readonly PlaceProblem[]): void {
    const waiting = this.answers.get(id) ?? [];
    this.answers.delete(id);
    const byNumber = new Map(problems.map((p) => [p.at, p]));
    for (const [at, { file, settle }] of waiting.entries()) {
      const problem = byNumber.get(at);
      if (!problem) settle(fine);
      else if (problem.lost) void this.again(file()).then(settle);
      else {
        const { failed, notSet, fatal } = problem;
        const code = fatal && fatal.code in engineErrors ? (fatal.code as EngineErrorCode) : 'TARGET_REFUSED';
        settle({ failed, notSet, ...(fatal && { fatal: new EngineError(code, fatal.details) }) });
      }
    }
  }

  /** Places a file in this thread that lost a part in another: here it may be had from elsewhere. */
  private async again(file: FileToPlace): Promise<Placed> {
    this.retrying++;
    try {
      return await this.here(file);
    } finally {
      this.retrying--;
      this.pool.wake();
    }
  }

  /** Lets go of the threads. */
  close(): void {
    clearInterval(this.watch);
    const { threads } = this.options;
    if (!threads) return;
    threads.pool.receiver = undefined;
    threads.pool.tell({ type: 'rest' });
  }
}

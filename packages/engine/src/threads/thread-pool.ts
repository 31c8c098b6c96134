import { Worker, type Transferable } from 'node:worker_threads';
import { endThread } from './thread-end';
import { threadFile } from './thread-file';

const inFlightPerThread = 3;
/** Weight of 32 MiB: so much is given only to a thread that has nothing else to do. */
const heavy = 25;
const breatheEveryMs = 3;
/** What such a thread makes is used up at once: more room for what is new only takes memory. */
const youngMb = 4;

interface Thread {
  readonly worker: Worker;
  /** Weights of what it has to do, in the order in which it will answer. */
  readonly inFlight: number[];
}

interface Waiting<Request> {
  readonly request: Request;
  readonly weight: number;
  /** Number of the thread that is to do it; any one where undefined. */
  readonly thread: number | undefined;
  readonly handedOver: readonly Transferable[];
}

/**
 * How much work so many files with so many bytes are, in powers of two, so that what is much alike stays in order: opening a file takes as long as some
 * 32 KiB.
 */
export function weightOf(files: number, bytes: number): number {
  return Math.round(Math.log2(bytes + files * 32_768));
}

/** What the data of every thread of a pool has beside its own. */
export interface PoolThread {
  /** One Int32, 1 when the work is to stop. */
  readonly stop: SharedArrayBuffer;
}

/** Whether the owner of a thread wants its work to stop. */
export function haltedBy({ stop }: PoolThread): () => boolean {
  const flag = new Int32Array(stop);
  return () => Atomics.load(flag, 0) === 1;
}

export interface PoolWork<Reply> {
  /** Name of the built thread. */
  readonly file: string;
  readonly size: number;
  /** Requests kept waiting while all threads have enough: the more, the better they can be put in order, and the more memory they take. */
  readonly mostWaiting: number;
  /** Takes a reply; true when it answers a request that was sent. */
  readonly onReply: (reply: Reply) => boolean;
  /** A thread broke. */
  readonly onBroken: (error: Error) => void;
}

/**
 * Threads that do the same work, each with a few requests at a time. They are started when there is something to do. Requests that have to wait go by their weight, light ones first: what
 * depends on many is done early, and the heavy ones are left to whoever is free.
 */
export class ThreadPool<Request, Reply> {
  private threads: Thread[] = [];
  private listeners: (() => void)[] = [];
  private readonly waiting: Waiting<Request>[] = [];
  private breathed = 0;
  private readonly stop = new Int32Array(new SharedArrayBuffer(4));

  constructor(
    private readonly data: object,
    private readonly work: PoolWork<Reply>,
  ) {}

  get running(): number {
    return this.threads.length;
  }

  /** Starts the threads; false when they were running. */
  start(): boolean {
    if (this.threads.length) return false;
    const workerData = { ...this.data, stop: this.stop.buffer } satisfies PoolThread;
    this.threads = Array.from({ length: this.work.size }, () => {
      const thread: Thread = {
        worker: new Worker(threadFile(this.work.file), { workerData, resourceLimits: { maxYoungGenerationSizeMb: youngMb } }),
        inFlight: [],
      };
      thread.worker.on('message', (reply: Reply) => {
        if (this.work.onReply(reply)) thread.inFlight.shift();
        this.feed();
        this.wake();
      });
      thread.worker.on('error', (error) => {
        thread.inFlight.length = 0;
        this.work.onBroken(error);
        this.wake();
      });
      return thread;
    });
    return true;
  }

  /** Whether there is more than enough to do. */
  get busy(): boolean {
    return this.waiting.length >= this.work.mostWaiting;
  }

  /**
   * Hands a request to the least busy thread (or the one with the number `thread`), or keeps it until there is room; `weight` says how much work it is beside
   * others.
   */
  send(request: Request, weight: number, handedOver: readonly Transferable[] = [], thread?: number): void {
    const at = this.waiting.findIndex((w) => (w.weight >= heavy ? weight < heavy || w.weight < weight : w.weight > weight));
    this.waiting.splice(at < 0 ? this.waiting.length : at, 0, { request, weight, handedOver, thread });
    this.feed();
  }

  private feed(): void {
    for (let at = 0; at < this.waiting.length;) {
      const least = this.threads.reduce((a, b) => (b.inFlight.length < a.inFlight.length ? b : a));
      const { request, weight, handedOver, thread } = this.waiting[at]!;
      const { inFlight, worker } = thread === undefined ? least : this.threads[thread]!;
      if (inFlight.length < (weight < heavy ? inFlightPerThread : 1)) {
        this.waiting.splice(at, 1);
        inFlight.push(weight);
        worker.postMessage(request, handedOver);
      } else if (thread === undefined) return;
      else at++;
    }
  }

  /** To be called now and then by an owner that works without pause: lets answers in, so that no thread runs dry while requests wait. */
  async breathe(): Promise<void> {
    const now = performance.now();
    if (!this.waiting.length || now - this.breathed < breatheEveryMs) return;
    await new Promise((resume) => setImmediate(resume));
    this.breathed = performance.now();
  }

  /** Tells all threads something that is not answered. */
  tell(request: Request): void {
    for (const { worker } of this.threads) worker.postMessage(request);
  }

  /** Resolves at the next reply, or when {@link wake} is called. */
  async change(): Promise<void> {
    await new Promise<void>((resume) => this.listeners.push(resume));
  }

  wake(): void {
    const { listeners } = this;
    this.listeners = [];
    for (const resume of listeners) resume();
  }

  /** Asks the threads to give up what they are doing. The pool can only be closed then. */
  halt(): void {
    Atomics.store(this.stop, 0, 1);
  }

  /** Gives up what is being done and ends the threads. */
  async close(): Promise<void> {
    this.halt();
    await Promise.all(this.threads.map(({ worker }) => endThread(worker)));
  }
}

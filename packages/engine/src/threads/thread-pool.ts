import { Worker, type Transferable } from 'node:worker_threads';
import { endThread } from './thread-end';
import { threadFile } from './thread-file';

/** Enough that threads do not run dry while their owner, going through what needs no work, does not listen. */
const inFlightPerThread = 16;

interface Thread {
  readonly worker: Worker;
  /** Weights of the requests it has not answered, in order. */
  readonly inFlight: number[];
  /** Their sum. */
  load: number;
}

/** How much work so many files with so many bytes are: opening one takes as long as some 32 KiB. */
export function weightOf(files: number, bytes: number): number {
  return bytes + files * 32_768;
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
  /** Takes a reply; true when it answers a request that was sent. */
  readonly onReply: (reply: Reply) => boolean;
  /** A thread broke. */
  readonly onBroken: (error: Error) => void;
}

/** Threads that do the same work, each with a few requests at a time. They are started when there is something to do. */
export class ThreadPool<Request, Reply> {
  private threads: Thread[] = [];
  private waiting: (() => void)[] = [];
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
      const thread: Thread = { worker: new Worker(threadFile(this.work.file), { workerData }), inFlight: [], load: 0 };
      thread.worker.on('message', (reply: Reply) => {
        if (this.work.onReply(reply)) thread.load -= thread.inFlight.shift() ?? 0;
        this.wake();
      });
      thread.worker.on('error', (error) => {
        thread.inFlight.length = 0;
        thread.load = 0;
        this.work.onBroken(error);
        this.wake();
      });
      return thread;
    });
    return true;
  }

  /** Whether every thread has enough to do. */
  get busy(): boolean {
    return this.threads.every((t) => t.inFlight.length >= inFlightPerThread);
  }

  /** Sends a request to the least busy thread; `weight` says how much work it is beside others. */
  send(request: Request, weight: number, handedOver: readonly Transferable[] = []): void {
    const free = this.threads.filter((t) => t.inFlight.length < inFlightPerThread);
    const thread = (free.length ? free : this.threads).reduce((a, b) => (b.load < a.load ? b : a));
    thread.inFlight.push(weight);
    thread.load += weight;
    thread.worker.postMessage(request, handedOver);
  }

  /** Tells all threads something that is not answered. */
  tell(request: Request): void {
    for (const { worker } of this.threads) worker.postMessage(request);
  }

  /** Resolves at the next reply, or when {@link wake} is called. */
  async change(): Promise<void> {
    await new Promise<void>((resume) => this.waiting.push(resume));
  }

  wake(): void {
    const { waiting } = this;
    this.waiting = [];
    for (const resume of waiting) resume();
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

import { Worker } from 'node:worker_threads';
import type { Logger } from 'pino';
import { endThread, threadFile } from '@lithodex/engine';
import type { ReadQuestion } from '@lithodex/contract';
import type { FromThread, ThreadStart, ToThread } from './task-thread';

/** Most sources that are read at once for others. */
const mostAtOnce = 16;

/** Threads that read sources for movers that keep. */
export class SourceReaders {
  private readonly busy = new Map<Worker, Int32Array>();

  constructor(
    private readonly data: Omit<ThreadStart, 'stop'>,
    private readonly log: Logger,
  ) {}

  /** Begins to read a source; false when too much is read already. */
  begin(question: ReadQuestion): boolean {
    if (this.busy.size >= mostAtOnce) return false;
    const stop = new Int32Array(new SharedArrayBuffer(4));
    const thread = new Worker(threadFile('task-thread'), { workerData: { ...this.data, stop: stop.buffer } satisfies ThreadStart });
    this.busy.set(thread, stop);
    const over = () => {
      if (!this.busy.delete(thread)) return;
      void endThread(thread);
    };
    thread.on('message', (message: FromThread) => {
      if (message.type !== 'read') return;
      if (message.failed)
        this.log.warn({ address: question.address, failed: message.failed }, 'a source could not be read for a mover that keeps');
      over();
    });
    thread.on('error', (error) => {
      this.log.error({ err: error }, 'the thread that reads a source broke');
      this.busy.delete(thread);
    });
    thread.postMessage({ type: 'read', question } satisfies ToThread);
    return true;
  }

  async close(): Promise<void> {
    for (const stop of this.busy.values()) Atomics.store(stop, 0, 1);
    await Promise.all([...this.busy.keys()].map((thread) => endThread(thread)));
  }
}

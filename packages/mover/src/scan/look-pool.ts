import { Worker } from 'node:worker_threads';
import type { RuleSource } from '@lithodex/contract';
import { shippedPatterns } from '@lithodex/core';
import { endThread, threadFile } from '@lithodex/engine';
import { ContentLook, type ContentTold } from './content-look';
import { RuleSet } from './rule-set';

/** What a thread looks for. */
export interface LookStart {
  readonly rules: readonly RuleSource[];
  readonly sensitive: boolean;
}
export interface LookAsked {
  readonly id: number;
  readonly bytes: Uint8Array<ArrayBuffer>;
  readonly whole: boolean;
}
export type LookAnswer = { readonly id: number; readonly told: ContentTold } | { readonly id: number; readonly failed: string };

/** So much is looked into without threads: starting them takes longer than most scans of what one night changed. Bytes. */
const alone = 8 << 20;

/** Bytes that nobody else has a view of. */
function ownBytes(data: Buffer): Uint8Array<ArrayBuffer> {
  const { buffer, byteLength } = data;
  return buffer instanceof ArrayBuffer && buffer.byteLength === byteLength ? new Uint8Array(buffer) : new Uint8Array(data);
}

interface Thread {
  readonly worker: Worker;
  /** What it has to answer, by number. */
  readonly asked: Map<number, (told: ContentTold) => void>;
}

/** What is told of a content by which the look into it broke: it holds up none of the others. */
const broken = (why: string): ContentTold => ({
  finds: [],
  counts: [],
  sum: '',
  notLooked: `looking into it failed: ${why}`.slice(0, 300),
});

/** Looks into contents, beside what goes on where there is much of it. */
export class LookPool {
  private readonly here: ContentLook;
  private readonly threads: Thread[] = [];
  private next = 0;
  private given = 0;

  /** Throws Error with what is wrong in the rules. */
  constructor(private readonly start: LookStart) {
    this.here = new ContentLook(RuleSet.of(start.rules), start.sensitive ? shippedPatterns : []);
  }

  /** Looks into a content, or a part of one that is too large to be held. It may be given to a thread: whoever calls can't use it any more. */
  async look(data: Buffer, whole: boolean): Promise<ContentTold> {
    this.given += data.length;
    if (this.given > alone) return this.inThread(data, whole);
    const told = whole ? this.here.intoWhole(data) : this.here.intoWindow(data);
    return told.catch((error: unknown) => broken((error as Error).message));
  }

  private inThread(data: Buffer, whole: boolean): Promise<ContentTold> {
    while (this.threads.length < (this.start.sensitive ? 2 : 1)) this.startThread();
    const { worker, asked } = this.threads.reduce((a, b) => (b.asked.size < a.asked.size ? b : a));
    const id = this.next++;
    const bytes = ownBytes(data);
    return new Promise((resolve) => {
      asked.set(id, resolve);
      worker.postMessage({ id, bytes, whole } satisfies LookAsked, [bytes.buffer]);
    });
  }

  private startThread(): void {
    const thread: Thread = { worker: new Worker(threadFile('scan-thread'), { workerData: this.start }), asked: new Map() };
    const { worker, asked } = thread;
    worker.on('message', (answer: LookAnswer) => {
      asked.get(answer.id)?.('told' in answer ? answer.told : broken(answer.failed));
      asked.delete(answer.id);
    });
    // it is gone with what it had: another one is started for what comes
    worker.on('error', (error) => {
      this.threads.splice(this.threads.indexOf(thread), 1);
      for (const resolve of asked.values()) resolve(broken(error.message));
      asked.clear();
    });
    this.threads.push(thread);
  }

  /** Ends its threads. */
  async close(): Promise<void> {
    await Promise.all(this.threads.splice(0).map(({ worker }) => endThread(worker)));
  }
}

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
  readonly sumAll: boolean;
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

interface Waiting {
  readonly resolve: (told: ContentTold) => void;
  readonly reject: (error: Error) => void;
}

/** Looks into contents, beside what goes on where there is much of it. */
export class LookPool {
  private readonly here: ContentLook;
  private workers: { readonly worker: Worker; inFlight: number }[] = [];
  private readonly waiting = new Map<number, Waiting>();
  private next = 0;
  private given = 0;

  /** Throws Error with what is wrong in the rules. */
  constructor(private readonly start: LookStart) {
    this.here = new ContentLook(RuleSet.of(start.rules), start.sensitive ? shippedPatterns : [], start.sumAll);
  }

  /** Looks into a content, or a part of one that is too large to be held. It may be given to a thread: whoever calls can't use it any more. */
  async look(data: Buffer, whole: boolean): Promise<ContentTold> {
    this.given += data.length;
    if (this.given <= alone) return whole ? this.here.intoWhole(data) : this.here.intoWindow(data);
    this.workers = this.workers.length ? this.workers : Array.from({ length: this.start.sensitive ? 2 : 1 }, () => this.started());
    const thread = this.workers.reduce((a, b) => (b.inFlight < a.inFlight ? b : a));
    const id = this.next++;
    const bytes = ownBytes(data);
    thread.inFlight++;
    try {
      return await new Promise<ContentTold>((resolve, reject) => {
        this.waiting.set(id, { resolve, reject });
        thread.worker.postMessage({ id, bytes, whole } satisfies LookAsked, [bytes.buffer]);
      });
    } finally {
      this.waiting.delete(id);
      thread.inFlight--;
    }
  }

  private started(): { readonly worker: Worker; inFlight: number } {
    const worker = new Worker(threadFile('scan-thread'), { workerData: this.start });
    worker.on('message', (answer: LookAnswer) => {
      const asked = this.waiting.get(answer.id);
      if ('told' in answer) asked?.resolve(answer.told);
      else asked?.reject(new Error(answer.failed));
    });
    worker.on('error', (error) => {
      for (const { reject } of this.waiting.values()) reject(error);
    });
    return { worker, inFlight: 0 };
  }

  /** Ends its threads. */
  async close(): Promise<void> {
    const ended = this.workers.splice(0);
    await Promise.all(ended.map(({ worker }) => endThread(worker)));
  }
}

import { existsSync } from 'node:fs';
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { Worker } from 'node:worker_threads';
import { EngineError, engineErrors, type EngineErrorCode } from '../errors';
import { ByteReader } from '../format/byte-io';
import { decodeToc, type PackToc } from '../format/toc';
import type { ClaimTable } from '../index/claim-table';
import type { KeySet } from '../keys/key-set';
import type { WriteCounts } from '../store/chunk-writer';
import type { TargetPlace } from '../targets/place';
import type { FileJobs } from './crunch';
import { readResults, type FileResult } from './file-results';

export interface CrunchStart {
  readonly place: TargetPlace;
  readonly nameKey: Uint8Array;
  readonly dataKey: Uint8Array;
}

export type CrunchRequest =
  | { readonly type: 'begin'; readonly claims: SharedArrayBuffer }
  | { readonly type: 'files'; readonly id: number; readonly jobs: FileJobs }
  | { readonly type: 'finish' };

export type CrunchReply =
  | { readonly type: 'files'; readonly id: number; readonly results: Uint8Array }
  | { readonly type: 'pack'; readonly toc: Uint8Array }
  | { readonly type: 'finished'; readonly counts: WriteCounts }
  | { readonly type: 'failed'; readonly code: string; readonly details: string };

/** Path of a built thread: beside the running bundle, or in dist/node of the repository when run from source. */
export function threadFile(name: string): string {
  const here = path.dirname(fileURLToPath(import.meta.url));
  const beside = path.join(here, `${name}.js`);
  if (existsSync(beside)) return beside;
  for (let at = here; at !== path.dirname(at); at = path.dirname(at)) {
    const built = path.join(at, 'dist', 'node', `${name}.js`);
    if (existsSync(built)) return built;
  }
  throw new Error(`${name}.js is not built; run "npm run build"`);
}

const inFlightPerThread = 3;

interface Thread {
  readonly worker: Worker;
  inFlight: number;
}

/**
 * Some crunch threads with back-pressure: `submit` waits while every thread has enough to do. A pool serves one run after another, each between `begin` and
 * `finish`; after a failure it must be closed.
 */
export class CrunchPool {
  private threads: Thread[] = [];
  private claims: ClaimTable | undefined;
  private readonly answers = new Map<number, (result: FileResult, at: number) => void>();
  private wake: (() => void)[] = [];
  private failure: EngineError | undefined;
  private nextId = 1;
  private finished: WriteCounts[] = [];

  private onPack: (toc: PackToc) => void = () => undefined;

  constructor(
    private readonly keys: KeySet,
    private readonly place: TargetPlace,
    private readonly size: number,
  ) {}

  /** Starts the threads when there is something to do for them: a run that finds nothing new needs none. */
  private start(): void {
    if (this.threads.length) return;
    const start: CrunchStart = { place: this.place, nameKey: this.keys.nameKey, dataKey: this.keys.dataKey };
    this.threads = Array.from({ length: this.size }, () => {
      const thread: Thread = { worker: new Worker(threadFile('crunch-thread'), { workerData: start }), inFlight: 0 };
      thread.worker.on('message', (message: CrunchReply) => {
        if (message.type === 'files') {
          thread.inFlight--;
          readResults(message.results, this.answers.get(message.id)!);
          this.answers.delete(message.id);
        } else if (message.type === 'pack') this.onPack(decodeToc(new ByteReader(Buffer.from(message.toc.buffer))));
        else if (message.type === 'finished') this.finished.push(message.counts);
        else
          this.fail(new EngineError(message.code in engineErrors ? (message.code as EngineErrorCode) : 'TARGET_REFUSED', message.details));
        this.wakeAll();
      });
      thread.worker.on('error', (error) => {
        this.fail(new EngineError('TARGET_REFUSED', String(error), { cause: error }));
        this.wakeAll();
      });
      return thread;
    });
    this.tellClaims();
  }

  private tellClaims(): void {
    for (const { worker } of this.threads) worker.postMessage({ type: 'begin', claims: this.claims!.memory } satisfies CrunchRequest);
  }

  /** Starts a run: chunks in `claims` count as stored, `onPack` learns of every pack written. */
  begin(claims: ClaimTable, onPack: (toc: PackToc) => void): void {
    this.onPack = onPack;
    this.finished = [];
    this.claims = claims;
    this.tellClaims();
  }

  private fail(error: EngineError): void {
    this.failure ??= error;
  }

  private wakeAll(): void {
    const waiting = this.wake;
    this.wake = [];
    for (const resume of waiting) resume();
  }

  private async until(ready: () => boolean): Promise<void> {
    while (!this.failure && !ready())
      await new Promise<void>((resume) => {
        this.wake.push(resume);
      });
    if (this.failure) throw this.failure;
  }

  /** Hands a batch to the least busy thread; resolves when it is taken, `done` runs for every file later. */
  async submit(jobs: FileJobs, done: (result: FileResult, at: number) => void): Promise<void> {
    this.start();
    await this.until(() => this.threads.some((t) => t.inFlight < inFlightPerThread));
    const thread = this.threads.reduce((a, b) => (b.inFlight < a.inFlight ? b : a));
    const id = this.nextId++;
    this.answers.set(id, done);
    thread.inFlight++;
    thread.worker.postMessage({ type: 'files', id, jobs } satisfies CrunchRequest);
  }

  /** Waits until every batch is done. Throws what a thread failed with. */
  async idle(): Promise<void> {
    await this.until(() => this.answers.size === 0);
  }

  /** Writes what is left and returns the sums over all threads. */
  async finish(): Promise<WriteCounts> {
    await this.idle();
    for (const { worker } of this.threads) worker.postMessage({ type: 'finish' } satisfies CrunchRequest);
    await this.until(() => this.finished.length === this.threads.length);
    return this.finished.reduce((a, b) => ({ fresh: a.fresh + b.fresh, stored: a.stored + b.stored }), { fresh: 0, stored: 0 });
  }

  async close(): Promise<void> {
    await Promise.all(this.threads.map(({ worker }) => worker.terminate()));
  }
}

import { Worker } from 'node:worker_threads';
import type { Logger } from 'pino';
import type { HostBounds } from '@lithodex/connectors';
import { RateMeter, timeLeft } from '@lithodex/core';
import { endThread, Pace, threadFile } from '@lithodex/engine';
import type { ClaimedTask, MoverLine, Progress } from '@lithodex/contract';
import { ServerApi, ServerError } from './api';
import type { Receiver } from './receiver';
import type { FromThread, TaskEnd, ThreadStart, ToThread } from './task-thread';

export interface MoverOptions {
  readonly server: string;
  readonly token: string;
  readonly keysFolder: string;
  readonly name: string;
  /** Programs of the host that scan files, by name. */
  readonly scanners: ThreadStart['scanners'];
  /** Folder of the scripts that policies may name. */
  readonly scripts: string | undefined;
  /** Where movers that only read reach this one, as host:port; undefined where they do not. */
  readonly receive?: string | undefined;
  /** Address of this host at which what is attached can be reached; undefined for this host alone. */
  readonly attachAt?: string | undefined;
  /** Folder for what machines write that run from the store. */
  readonly overlays: string;
  /** What it may do on its host. */
  readonly bounds: HostBounds;
}

const renewMs = 1000;
/** The task is another's by now, or the token is good no more: what runs is not wanted. */
const gone = ['LEASE_LOST', 'NOT_SIGNED_IN', 'NOT_ALLOWED'];
const linesPerRenewal = 1000;

/** Runs tasks one after another in a thread of its own, so that the lease is renewed whatever the work does. */
export class TaskRunner {
  private readonly stop = new Int32Array(new SharedArrayBuffer(4));
  private readonly paceMemory = Pace.memory();
  private readonly pace = new Pace(this.paceMemory);
  private worker: Worker | undefined;
  private closing = false;
  private readonly api: ServerApi;

  constructor(
    private readonly options: MoverOptions,
    private readonly log: Logger,
    private readonly receiver: Receiver | undefined,
  ) {
    this.api = new ServerApi(options.server, options.token);
  }

  private thread(): Worker {
    const data: ThreadStart = { ...this.options, stop: this.stop.buffer, pace: this.paceMemory };
    this.worker ??= new Worker(threadFile('task-thread'), { workerData: data });
    return this.worker;
  }

  /** Asks the running task to stop. */
  halt(): void {
    Atomics.store(this.stop, 0, 1);
    this.pace.set(0);
  }

  /** Ends the thread; a task that is running is not reported, so that another mover takes it up. */
  async close(): Promise<void> {
    this.closing = true;
    if (this.worker) await endThread(this.worker);
  }

  /** Runs one claimed task to its end and reports it. */
  async run(task: ClaimedTask): Promise<void> {
    if (this.closing) return;
    Atomics.store(this.stop, 0, 0);
    this.pace.set(task.pace ?? 0);
    const began = Date.now();
    const lines: MoverLine[] = [];
    let latest: Omit<Progress, 'rate' | 'leftMs'> | undefined;
    let logSeq = 0;
    const meter = new RateMeter(began);
    const ended = this.work(task, (message) => {
      if (message.type === 'log') lines.push(message.line);
      else if (message.type === 'progress') latest = message.progress;
    });
    const renew = async () => {
      const batch = lines.slice(0, linesPerRenewal);
      const now = Date.now();
      const expected = latest && { items: latest.expectedItems, bytes: latest.expectedBytes };
      const progress = latest
        ? { ...latest, rate: meter.rate(latest.bytes, now), leftMs: timeLeft(latest, expected!, now - began) ?? null }
        : null;
      const { stop, pace, wish } = await this.api.call('renew', { attempt: task.attempt, progress, logSeq, log: batch }, task.id);
      if (batch.length) logSeq++;
      lines.splice(0, batch.length);
      if (stop) this.halt();
      else this.pace.set(pace ?? 0);
      if (wish) this.worker?.postMessage({ type: 'wish', taskId: task.id, wish } satisfies ToThread);
    };
    let done = false;
    let wake: () => void = () => undefined;
    const renewals = (async () => {
      while (!done && !this.closing) {
        await renew().catch((error: unknown) => {
          if (error instanceof ServerError && gone.includes(error.code)) this.halt();
        });
        await new Promise<void>((resume) => {
          const timer = setTimeout(resume, done || this.closing ? 0 : renewMs);
          wake = () => {
            clearTimeout(timer);
            resume();
          };
        });
      }
    })();
    const end = await ended;
    done = true;
    wake();
    await renewals;
    if (!this.closing) await this.report(task, end, lines, renew);
  }

  private work(task: ClaimedTask, onMessage: (message: FromThread) => void): Promise<TaskEnd> {
    const worker = this.thread();
    return new Promise((resolve) => {
      const finish = (end: TaskEnd) => {
        worker.off('message', receive);
        worker.off('error', fail);
        resolve(end);
      };
      const receive = (message: FromThread) => {
        if (message.type === 'end') finish(message.end);
        else if (message.type === 'expect') this.receiver?.expect(message.expected);
        else if (message.type === 'forget') this.receiver?.forget(message.id);
        else onMessage(message);
      };
      const fail = (error: Error) => {
        this.worker = undefined;
        this.log.error({ err: error, task: task.id }, 'the thread of a task broke');
        const counts = { items: 0, files: 0, bytes: 0, read: 0, stored: 0, warnings: 0, failed: 0, missing: 0 };
        const cause = { code: 'THREAD_BROKE', message: error.message, remedy: 'Retry. If it happens again, see the log of the mover.' };
        finish({ outcome: 'failed', cause, counts, phases: [], measured: { ms: 0, bytes: 0 }, made: [] });
      };
      worker.on('message', receive);
      worker.on('error', fail);
      worker.postMessage({ type: 'task', task } satisfies ToThread);
    });
  }

  /** Sends the rest of the log and the end, waiting while the server is away; a lost lease needs no report. */
  private async report(task: ClaimedTask, end: TaskEnd, lines: readonly MoverLine[], renew: () => Promise<void>): Promise<void> {
    const until = Date.now() + 10 * 60_000;
    for (let wait = 100; Date.now() < until; wait = Math.min(5000, wait * 2)) {
      try {
        while (lines.length) await renew();
        await this.api.call('finishTask', { attempt: task.attempt, ...end, phases: [...end.phases], made: [...end.made] }, task.id);
        return;
      } catch (error) {
        if (error instanceof ServerError && error.code !== 'DATABASE_AWAY') {
          if (error.code !== 'LEASE_LOST') this.log.error({ err: error, task: task.id }, 'the end of a task was refused');
          return;
        }
        await new Promise((resume) => setTimeout(resume, wait));
      }
    }
  }
}

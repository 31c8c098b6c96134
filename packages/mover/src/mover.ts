import { setMaxListeners } from 'node:events';
import { setTimeout } from 'node:timers/promises';
import { Worker } from 'node:worker_threads';
import type { Logger } from 'pino';
import { moverLanguage } from '@lithodex/contract';
import { endThread, threadFile } from '@lithodex/engine';
import { ServerApi, ServerError } from './api';
import { hardware, hostSample } from './host-meter';
import { Receiver } from './receiver';
import { SourceReaders } from './source-readers';
import { TaskRunner, type MoverOptions } from './task-runner';
import type { FromThread, ThreadStart, ToThread } from './task-thread';

/** Until the server says how many. */
const tasksAtFirst = 2;
const mostTasks = 16;
const beatMs = 10_000;
const idleMs = 500;
const patienceMs = 1000;

/** Claims and runs tasks and answers questions until it is stopped. Speaks to the server's API only. */
export class Mover {
  private stopping = false;
  private readonly api: ServerApi;
  private readonly runners: TaskRunner[];
  private questions: Worker;
  private readonly receiver: Receiver | undefined;
  private readonly readers: SourceReaders;
  /** Questions the thread has and has not answered yet. */
  private readonly asked = new Set<string>();
  private readonly gone = new AbortController();
  private loops: Promise<void>[] = [];
  private tasks = tasksAtFirst;

  constructor(
    private readonly options: MoverOptions,
    private readonly log: Logger,
  ) {
    this.api = new ServerApi(options.server, options.token);
    // every loop listens
    setMaxListeners(0, this.gone.signal);
    this.receiver = options.receive === undefined ? undefined : new Receiver(options.receive, log);
    this.readers = new SourceReaders(options, log);
    this.runners = Array.from({ length: mostTasks }, () => new TaskRunner(options, log, this.receiver));
    this.questions = this.questionThread();
  }

  /** A thread that answers questions. One that breaks says so for what it had, and another takes its place. */
  private questionThread(): Worker {
    const data: ThreadStart = { ...this.options, stop: new SharedArrayBuffer(4) };
    const thread = new Worker(threadFile('task-thread'), { workerData: data });
    thread.on('message', (message: FromThread) => {
      if (message.type === 'answer') this.answer(message.id, message.ok, message.answer);
    });
    thread.on('error', (error) => {
      this.log.error({ err: error }, 'the thread that answers questions broke');
      for (const id of this.asked) this.answer(id, false, { code: 'THREAD_BROKE', message: 'The mover broke off over this.' });
      if (!this.stopping) this.questions = this.questionThread();
    });
    return thread;
  }

  private answer(id: string, ok: boolean, answer: unknown): void {
    this.asked.delete(id);
    void this.api.call('answer', { ok, answer }, id).catch(() => undefined);
  }

  /** Throws what the system refuses where others are to reach it. */
  async start(): Promise<void> {
    await this.receiver?.listen();
    this.loops = [...this.runners.map((runner, i) => this.workLoop(runner, i)), this.questionLoop(), this.beatLoop()];
  }

  private async keepTrying(round: () => Promise<void>): Promise<void> {
    while (!this.stopping) {
      try {
        await round();
      } catch (error) {
        if (this.stopping) return;
        if (error instanceof ServerError && error.code === 'MOVER_OUTDATED') this.log.error(error.message);
        else this.log.debug({ err: error }, 'the server does not answer');
        await setTimeout(patienceMs);
      }
    }
  }

  /** Runners beyond the number that may work at once wait. */
  private workLoop(runner: TaskRunner, place: number): Promise<void> {
    return this.keepTrying(async () => {
      if (place >= this.tasks) {
        await setTimeout(idleMs, undefined, { signal: this.gone.signal });
        return;
      }
      const { task } = await this.api.call(
        'claim',
        { mover: this.options.name, speaks: moverLanguage, receives: this.receiver !== undefined },
        undefined,
        AbortSignal.any([this.gone.signal, AbortSignal.timeout(40_000)]),
      );
      if (task) await runner.run(task);
    });
  }

  /** Tells how busy the host is. */
  private beatLoop(): Promise<void> {
    return this.keepTrying(async () => {
      const { tasks } = await this.api.call('beat', {
        mover: this.options.name,
        hardware: hardware(),
        sample: hostSample(),
      });
      this.tasks = tasks;
      await setTimeout(beatMs, undefined, { signal: this.gone.signal });
    });
  }

  private questionLoop(): Promise<void> {
    return this.keepTrying(async () => {
      const asked = await this.api.call(
        'questions',
        { mover: this.options.name, speaks: moverLanguage },
        undefined,
        AbortSignal.any([this.gone.signal, AbortSignal.timeout(40_000)]),
      );
      if (asked.id && asked.question?.ask === 'read') {
        this.answer(asked.id, this.readers.begin(asked.question), { message: 'It reads as many sources as it can.' });
      } else if (asked.id && asked.question) {
        this.asked.add(asked.id);
        this.questions.postMessage({ type: 'question', id: asked.id, question: asked.question } satisfies ToThread);
      }
    });
  }

  /** Ends the loops; a running task is left to be taken up again by the next mover. */
  async stop(): Promise<void> {
    this.stopping = true;
    this.gone.abort();
    this.receiver?.close();
    await Promise.all([...this.runners.map((r) => r.close()), this.readers.close(), endThread(this.questions)]);
    void Promise.allSettled(this.loops);
  }
}

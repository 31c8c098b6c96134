import { setMaxListeners } from 'node:events';
import { setTimeout } from 'node:timers/promises';
import { Worker } from 'node:worker_threads';
import type { Logger } from 'pino';
import { moverLanguage, type ClaimedTask } from '@lithodex/contract';
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
/** Logs that are followed at once take no place of other work. */
const mostFollowed = 16;
const beatMs = 10_000;
const idleMs = 500;
const patienceMs = 1000;

/** Claims and runs tasks and answers questions until it is stopped. Speaks to the server's API only. */
export class Mover {
  private stopping = false;
  private readonly api: ServerApi;
  private readonly runners: TaskRunner[];
  /** Those that run nothing, the one that ran last at the end: its thread is there, and knows the targets. */
  private readonly idle: TaskRunner[];
  /** Each follows a log, or is free to. */
  private readonly followers: TaskRunner[] = [];
  private readonly free: TaskRunner[] = [];
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
    this.idle = [...this.runners];
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
    this.loops = [...this.runners.map((_, place) => this.workLoop(place)), this.followLoop(), this.questionLoop(), this.beatLoop()];
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

  /** One task after another. Loops beyond the number that may work at once wait. */
  private workLoop(place: number): Promise<void> {
    return this.keepTrying(async () => {
      if (place >= this.tasks) {
        await setTimeout(idleMs, undefined, { signal: this.gone.signal });
        return;
      }
      const task = await this.claim(false);
      const runner = task && this.idle.pop();
      if (runner) await runner.run(task).finally(() => this.idle.push(runner));
    });
  }

  private async claim(follows: boolean): Promise<ClaimedTask | null> {
    const { name } = this.options;
    const { task } = await this.api.call(
      'claim',
      { mover: name, speaks: moverLanguage, receives: this.receiver !== undefined, follows },
      undefined,
      AbortSignal.any([this.gone.signal, AbortSignal.timeout(40_000)]),
    );
    return task;
  }

  /** Looks for logs to follow, each by a runner of its own. */
  private followLoop(): Promise<void> {
    return this.keepTrying(async () => {
      if (!this.free.length && this.followers.length >= mostFollowed) {
        await setTimeout(idleMs, undefined, { signal: this.gone.signal });
        return;
      }
      const task = await this.claim(true);
      if (!task || this.stopping) return;
      const runner = this.free.pop() ?? this.another();
      void runner.run(task).finally(() => this.free.push(runner));
    });
  }

  private another(): TaskRunner {
    const runner = new TaskRunner(this.options, this.log, this.receiver);
    this.followers.push(runner);
    return runner;
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
    await Promise.all([...[...this.runners, ...this.followers].map((r) => r.close()), this.readers.close(), endThread(this.questions)]);
    void Promise.allSettled(this.loops);
  }
}

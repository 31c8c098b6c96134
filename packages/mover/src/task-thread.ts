import { parentPort, workerData } from 'node:worker_threads';
import {
  longestMessage,
  taskTypes,
  type Cause,
  type ClaimedTask,
  type MachineWish,
  type MoverLine,
  type Progress,
  type Question,
  type ReadQuestion,
  type Work,
  type WorkType,
} from '@lithodex/contract';
import { closePools, endOwn, HostLimits, type HostBounds } from '@lithodex/connectors';
import { EngineError, served, systemCode } from '@lithodex/engine';
import { ServerApi } from './api';
import { causeOf } from './causes';
import type { Expected } from './receiver';
import type { ScannerCommand } from './scan/command-scanner';
import { Stores } from './work/stores';
import { targetsOf, targetsRead } from './work/targets-of';
import { noCounts, type Receiving, type TaskContext, type TaskResult } from './work/task-context';

export interface ThreadStart {
  readonly server: string;
  readonly token: string;
  readonly keysFolder: string;
  readonly scripts: string | undefined;
  readonly bounds: HostBounds;
  /** Programs of the host that scan files, by name. */
  readonly scanners: Readonly<Record<string, ScannerCommand>>;
  /** Where other movers reach this one; undefined where they do not. */
  readonly receive?: string | undefined;
  /** Address of this host at which what is attached can be reached; undefined for this host alone. */
  readonly attachAt?: string | undefined;
  /** Folder for what machines write that run from the store. */
  readonly overlays: string;
  /** One Int32: 0 go on, 1 stop. */
  readonly stop: SharedArrayBuffer;
  /** Memory of the {@link Pace} of its task. */
  readonly pace?: SharedArrayBuffer;
}

export type ToThread =
  | { readonly type: 'task'; readonly task: ClaimedTask }
  | { readonly type: 'wish'; readonly taskId: string; readonly wish: MachineWish | null }
  | { readonly type: 'question'; readonly id: string; readonly question: Question }
  | { readonly type: 'read'; readonly question: ReadQuestion };

export interface TaskEnd {
  readonly outcome: 'done' | 'failed' | 'stopped';
  readonly cause: Cause | null;
  readonly counts: TaskResult['counts'];
  readonly phases: readonly { name: string; ms: number }[];
  readonly measured: { readonly ms: number; readonly bytes: number };
  readonly made: readonly string[];
}

export type FromThread =
  | { readonly type: 'log'; readonly line: MoverLine }
  | { readonly type: 'progress'; readonly progress: Omit<Progress, 'rate' | 'leftMs'> }
  | { readonly type: 'expect'; readonly expected: Expected }
  | { readonly type: 'forget'; readonly id: string }
  | { readonly type: 'read'; readonly failed: string }
  | { readonly type: 'end'; readonly end: TaskEnd }
  | { readonly type: 'answer'; readonly id: string; readonly ok: boolean; readonly answer: unknown };

const start = workerData as ThreadStart;
const api = new ServerApi(start.server, start.token);
const limits = new HostLimits(start.bounds);
const stores = new Stores(start.keysFolder, limits, start.pace);
const stop = new Int32Array(start.stop);
const say = (message: FromThread) => {
  parentPort!.postMessage(message);
};
const progressEveryMs = 200;

/** Loaded with the first task of the type: most threads do one or two of them. */
const runners: { readonly [T in WorkType]: () => Promise<(ctx: TaskContext, work: Extract<Work, { type: T }>) => Promise<TaskResult>> } = {
  backup: async () => (await import('./work/backup')).runBackup,
  trial: async () => (await import('./work/backup')).runTrial,
  restore: async () => (await import('./work/restore')).runRestore,
  download: async () => (await import('./work/download')).runDownload,
  attach: async () => (await import('./work/attach')).runAttach,
  runMachine: async () => (await import('./work/run-machine')).runMachine,
  copy: async () => (await import('./work/copy')).runCopy,
  verify: async () => (await import('./work/verify')).runVerify,
  scan: async () => (await import('./work/scan')).runScan,
  drill: async () => (await import('./work/drill')).runDrill,
  adopt: async () => (await import('./work/adopt')).runAdopt,
  expire: async () => (await import('./work/expire')).runExpire,
  prune: async () => (await import('./work/prune')).runPrune,
};

function run<T extends WorkType>(ctx: TaskContext, type: T, work: Work): Promise<TaskResult> {
  const use = async () => (await runners[type]())(ctx, work as Extract<Work, { type: T }>);
  return taskTypes[type].pins ? stores.pinned(ctx.task.id, targetsRead(work), use) : use();
}

async function runTask(task: ClaimedTask): Promise<TaskEnd> {
  const began = performance.now();
  const phases: { name: string; ms: number }[] = [];
  let phaseBegan = began;
  let phase = '';
  const closePhase = () => {
    if (phase) phases.push({ name: phase, ms: Math.round(performance.now() - phaseBegan) });
    phaseBegan = performance.now();
  };
  let told = 0;
  const ctx: TaskContext = {
    task,
    api,
    stores,
    limits,
    scripts: start.scripts,
    scanners: start.scanners,
    attachAt: start.attachAt ?? '127.0.0.1',
    overlays: start.overlays,
    wish: () => (wished?.taskId === task.id ? wished.wish : 'wish' in task.work ? task.work.wish : null),
    receive: start.receive === undefined ? undefined : receivingAt(start.receive),
    log: (line) => {
      say({ type: 'log', line: { ...line, message: line.message.slice(0, longestMessage).toWellFormed() } });
    },
    progress: (progress) => {
      if (performance.now() - told < progressEveryMs) return;
      told = performance.now();
      say({ type: 'progress', progress });
    },
    stopped: () => Atomics.load(stop, 0) !== 0,
    phase: (name) => {
      closePhase();
      phase = name;
    },
  };
  const end = (outcome: TaskEnd['outcome'], cause: Cause | null, result: TaskResult): TaskEnd => {
    closePhase();
    return {
      outcome,
      cause,
      counts: result.counts,
      phases,
      measured: { ms: performance.now() - began, bytes: result.bytes },
      made: result.made ?? [],
    };
  };
  try {
    return end('done', null, await run(ctx, task.work.type, task.work));
  } catch (error) {
    const cause = causeOf(error);
    ctx.log({ level: 'fault', code: cause.code, path: '', message: cause.message });
    if (error instanceof EngineError && error.code !== 'STOPPED') for (const { id } of targetsOf(task.work)) stores.forget(id);
    return end(cause.code === 'STOPPED' ? 'stopped' : 'failed', cause, { counts: noCounts, bytes: 0 });
  }
}

const receivingAt = (address: string): Receiving => ({
  address,
  expect: (expected) => {
    say({ type: 'expect', expected });
  },
  forget: (id) => {
    say({ type: 'forget', id });
  },
});

/** Gives up what is running and ends the threads kept for later runs. */
async function leave(): Promise<void> {
  Atomics.store(stop, 0, 1);
  await running;
  await Promise.all([closePools(), endOwn()]);
}

async function read(question: ReadQuestion): Promise<void> {
  const { readSource } = await import('./work/read-source');
  await readSource(question, { limits, scripts: start.scripts, stopped: () => Atomics.load(stop, 0) !== 0 });
}

async function answer(question: Question): Promise<unknown> {
  const { answerQuestion } = await import('./work/questions');
  return answerQuestion(question, stores, limits);
}

/** What was wanted last. */
let wished: Extract<ToThread, { type: 'wish' }> | undefined;
let running: Promise<void> = Promise.resolve();
served((message: ToThread) => {
  if (message.type === 'task')
    running = runTask(message.task).then((end) => {
      say({ type: 'end', end });
    });
  else if (message.type === 'wish') wished = message;
  else if (message.type === 'read')
    running = read(message.question).then(
      () => {
        say({ type: 'read', failed: '' });
      },
      (error: unknown) => {
        say({ type: 'read', failed: String(error) });
      },
    );
  else
    answer(message.question).then(
      (answer) => {
        say({ type: 'answer', id: message.id, ok: true, answer });
      },
      (error: unknown) => {
        say({
          type: 'answer',
          id: message.id,
          ok: false,
          answer: { code: systemCode(error) ?? 'UNEXPECTED', message: error instanceof Error ? error.message : String(error) },
        });
      },
    );
}, leave);

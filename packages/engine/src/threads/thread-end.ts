import { parentPort, type Worker } from 'node:worker_threads';

/**
 * Threads are asked to leave and never terminated: a native module that is being loaded or called when its thread is terminated takes the whole process
 * with it.
 */
const leave = 'leave';

/** Asks a thread that is {@link served} to end and waits until it has. */
export async function endThread(worker: Worker): Promise<void> {
  if (worker.threadId === -1) return;
  const ended = new Promise<void>((resolve) => worker.once('exit', () => resolve()));
  worker.postMessage(leave);
  await ended;
}

/** Hands what is sent to this thread to `handle` until it is asked to leave; then it ends when `last` has, at once when it waits for something. */
export function served<Request>(handle: (request: Request) => void, last: () => Promise<void> = async () => undefined): void {
  parentPort!.on('message', (message: Request | typeof leave) => {
    if (message === leave) void last().finally(() => process.exit());
    else handle(message);
  });
}

// Starts a process again whenever it ends by itself, be it killed: later and later while it does not stay.
import { spawn } from 'node:child_process';

const [firstMs, longestMs, steadyMs] = [300, 30_000, 60_000];

/**
 * Keeps a process running until it is stopped.
 * `args`: script and arguments for Node; `ready`: the process says so by a message before `started` is settled; `say`: told in words when it has to be started again.
 */
export function keepRunning(name, args, { ready = false, say = () => undefined, env = process.env, detached = false } = {}) {
  let child;
  let stopping = false;
  let wait = firstMs;
  let timer;
  let settle = {};
  const started = new Promise((resolve, reject) => {
    settle = { resolve, reject };
  });
  started.catch(() => undefined);
  let gone = Promise.resolve();

  function begin() {
    const began = Date.now();
    child = spawn(process.execPath, args, { stdio: ['ignore', 'inherit', 'inherit', 'ipc'], env, detached });
    let wasReady = !ready;
    if (ready)
      child.once('message', () => {
        wasReady = true;
        settle.resolve();
      });
    else settle.resolve();
    gone = new Promise((resume) => {
      child.once('exit', (code, signal) => {
        resume();
        if (stopping) return;
        // what never was ready at first has nothing to go on with
        if (!wasReady) settle.reject(new Error(`${name} did not start.`));
        if (Date.now() - began > steadyMs) wait = firstMs;
        say(`${name} ended (${signal ?? code}); it is started again in ${(wait / 1000).toFixed(1)} s.`);
        timer = setTimeout(begin, wait);
        wait = Math.min(longestMs, wait * 2);
      });
    });
  }
  begin();

  return {
    started,
    /** Number of the process as it is now. */
    get pid() {
      return child.pid;
    },
    /** Ends it for good: asked first, then made to. */
    async stop(patienceMs = 4000) {
      stopping = true;
      clearTimeout(timer);
      if (child.exitCode !== null || child.signalCode !== null) return;
      child.kill('SIGTERM');
      const late = setTimeout(() => child.kill('SIGKILL'), patienceMs);
      await gone;
      clearTimeout(late);
    },
  };
}

/** Keeps one process running in the foreground, and ends with it when a person says so. */
export async function keepInForeground(name, args) {
  const say = (text) => process.stderr.write(`${text}\n`);
  const kept = keepRunning(name, args, { say });
  await new Promise((resume) => {
    for (const signal of ['SIGINT', 'SIGTERM', 'SIGHUP']) process.once(signal, resume);
  });
  await kept.stop(15_000);
}

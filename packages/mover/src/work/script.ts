import { spawn } from 'node:child_process';
import fs from 'node:fs';
import path from 'node:path';
import type { Readable } from 'node:stream';
import { setTimeout as pause } from 'node:timers/promises';
import type { MoverLine } from '@lithodex/contract';
import { EngineError } from '@lithodex/engine';

/** What scripts run with. */
export interface ScriptHost {
  /** Folder of the scripts that policies may name; none when it was not given. */
  readonly scripts: string | undefined;
  readonly log: (line: MoverLine) => void;
  readonly stopped: () => boolean;
  readonly phase: (name: string) => void;
}

export type ScriptErrorCode = 'SCRIPT_REFUSED' | 'SCRIPT_FAILED' | 'SCRIPT_TOO_LONG';

/** A script that may not run, or did not end well. */
export class ScriptError extends Error {
  constructor(
    readonly code: ScriptErrorCode,
    message: string,
  ) {
    super(message);
  }
}

const writableByOthers = 0o022;
const mostLines = 500;
const longestLine = 2000;
const lookMs = 200;
const graceMs = 3000;

/** The file of a script. Throws SCRIPT_REFUSED unless it lies in the folder, can be run, and only its owner can change either. */
export function scriptFile(folder: string | undefined, name: string): string {
  const refuse = (why: string) => new ScriptError('SCRIPT_REFUSED', `The script ${name} was not run: ${why}.`);
  if (!folder) throw refuse('this mover was started without a folder of scripts');
  let file: string;
  try {
    const inside = fs.realpathSync(folder);
    file = fs.realpathSync(path.join(inside, name));
    if (path.dirname(file) !== inside) throw refuse('it leads out of the folder of scripts');
    if (fs.statSync(inside).mode & writableByOthers) throw refuse('others than its owner can write to the folder of scripts');
  } catch (error) {
    throw error instanceof ScriptError ? error : refuse('it is not there');
  }
  const stat = fs.statSync(file);
  if (!stat.isFile() || !(stat.mode & 0o111)) throw refuse('it is no file that can be run');
  if (stat.mode & writableByOthers) throw refuse('others than its owner can write to it');
  return file;
}

/** Lines of a stream, each cut where it becomes too long: what has no end is not kept. */
async function* linesOf(stream: Readable): AsyncGenerator<string> {
  let line = '';
  for await (const part of stream.setEncoding('utf8') as AsyncIterable<string>) {
    const [first = '', ...rest] = part.split('\n');
    line = (line + first).slice(0, longestLine);
    for (const next of rest) {
      yield line;
      line = next.slice(0, longestLine);
    }
  }
  if (line) yield line;
}

/**
 * Runs a script to its end, without a shell; what it writes goes to the log of the task. Throws ScriptError when it ends badly or takes longer than `minutes`, and STOPPED when the task is
 * stopped: it and what it started are ended then.
 */
export async function runScript(
  ctx: Omit<ScriptHost, 'phase'>,
  name: string,
  minutes: number,
  told: Readonly<Record<string, string>>,
): Promise<void> {
  const file = scriptFile(ctx.scripts, name);
  const child = spawn(file, [], {
    cwd: path.dirname(file),
    env: { PATH: process.env['PATH'], LANG: process.env['LANG'], ...told },
    stdio: ['ignore', 'pipe', 'pipe'],
    detached: true,
  });
  const end = (signal: NodeJS.Signals) => {
    try {
      process.kill(-child.pid!, signal);
    } catch {
      // it has ended already
    }
  };
  let lines = 0;
  const follow = async (stream: Readable, level: 'note' | 'warning') => {
    for await (const line of linesOf(stream))
      if (lines++ < mostLines) ctx.log({ level, code: 'SCRIPT', path: '', message: `${name}: ${line}` });
  };
  const until = Date.now() + minutes * 60_000;
  let why: 'stopped' | 'late' | undefined;
  const watch = setInterval(() => {
    why ??= ctx.stopped() ? 'stopped' : Date.now() > until ? 'late' : undefined;
    if (!why) return;
    clearInterval(watch);
    end('SIGTERM');
    setTimeout(end, graceMs, 'SIGKILL').unref();
  }, lookMs);
  const ended = new Promise<string>((resolve) => {
    child.once('error', (error) => {
      resolve(error.message);
    });
    child.once('exit', (code, signal) => {
      resolve(code === 0 ? '' : signal ? `it was ended by ${signal}` : `it ended with ${code}`);
    });
  });
  const followed = Promise.all([follow(child.stdout, 'note'), follow(child.stderr, 'warning')]);
  const outcome = await ended;
  clearInterval(watch);
  // what it left running would hold its output open
  if (!why) await Promise.race([followed, pause(graceMs, undefined, { ref: false })]);
  end('SIGKILL');
  if (lines > mostLines)
    ctx.log({ level: 'note', code: 'SCRIPT', path: '', message: `${name}: ${lines - mostLines} more lines are left out` });
  if (why === 'stopped') throw new EngineError('STOPPED');
  if (why === 'late') throw new ScriptError('SCRIPT_TOO_LONG', `The script ${name} took longer than ${minutes} minutes and was ended.`);
  if (outcome) throw new ScriptError('SCRIPT_FAILED', `The script ${name} failed: ${outcome}.`);
}

import { spawn, type ChildProcess } from 'node:child_process';
import { closeSync, existsSync, mkdtempSync, openSync, rmSync, writeSync } from 'node:fs';
import { tmpdir } from 'node:os';
import path from 'node:path';
import type { Readable } from 'node:stream';
import { SourceError } from '../source-error';
import type { OutputPipe } from './output-pipe';

const mostSaid = 4000;
/** Number of the first open file that a program is given beside its input and outputs. */
export const firstFile = 3;

/** What a program that writes much gathers before it writes. */
const gatheredBytes = 256 << 10;

export interface ProgramOptions {
  readonly files: readonly string[];
  readonly env?: Readonly<Record<string, string>>;
  /** What it writes goes there instead of to {@link ClientProgram.output}. */
  readonly output?: OutputPipe | undefined;
}

/** An open file without a name that holds a text: in memory where the system has room for that. */
function nameless(text: string): number {
  const folder = mkdtempSync(path.join(existsSync('/dev/shm') ? '/dev/shm' : tmpdir(), 'lithodex-'));
  try {
    const file = openSync(path.join(folder, 'text'), 'wx+', 0o600);
    writeSync(file, text);
    return file;
  } finally {
    rmSync(folder, { recursive: true });
  }
}

/** A client program that works on a server. What opens the server is passed as an open file without a name, so that neither the list of processes nor a folder shows it. */
export class ClientProgram {
  private said = '';
  private readonly ended: Promise<string | undefined>;

  private constructor(private readonly child: ChildProcess) {
    child.stderr!.setEncoding('utf8').on('data', (text: string) => {
      if (this.said.length < mostSaid) this.said += text;
    });
    this.ended = new Promise((resolve) => {
      child.once('error', (error: NodeJS.ErrnoException) => {
        resolve(error.code ?? error.message);
      });
      child.once('close', (code, signal) => {
        resolve(code === 0 ? undefined : (signal ?? String(code)));
      });
    });
  }

  /** Starts a program. `files`: texts that it reads from the open files {@link firstFile} and up. */
  static start(program: string, args: readonly string[], options: ProgramOptions): ClientProgram {
    const files = options.files.map(nameless);
    try {
      // programs write a few kilobytes at a time: to be woken for each costs more than what is done with it
      const [command, before] = options.output ? ['stdbuf', [`-o${gatheredBytes}`, program]] : [program, []];
      const child = spawn(command, [...before, ...args], {
        stdio: ['pipe', options.output?.end ?? 'pipe', 'pipe', ...files],
        env: { PATH: process.env['PATH'], LANG: 'C.UTF-8', HOME: '/nonexistent', ...options.env },
      });
      child.stdin!.on('error', () => undefined);
      return new ClientProgram(child);
    } finally {
      options.output?.given();
      for (const file of files) closeSync(file);
    }
  }

  get output(): Readable {
    return this.child.stdout!;
  }

  /** Writes to what it reads; waits while that is full. A program that has ended takes no more: {@link end} says why. */
  async write(data: Uint8Array | string): Promise<void> {
    const { stdin } = this.child;
    if (!stdin || stdin.destroyed || stdin.write(data)) return;
    await new Promise<void>((resolve) => {
      const go = () => {
        stdin.off('drain', go).off('close', go);
        resolve();
      };
      stdin.once('drain', go).once('close', go);
    });
  }

  /** Whether it takes no more. */
  get closed(): boolean {
    return this.child.exitCode !== null || this.child.signalCode !== null;
  }

  /** Waits for its end. Throws SourceError with what it said when that was not well. */
  async end(): Promise<void> {
    this.child.stdin?.end();
    const why = await this.ended;
    if (why === undefined) return;
    if (why === 'ENOENT') throw new SourceError('PROGRAM_MISSING', this.child.spawnfile);
    const said = this.said.trim().replaceAll('\n', ' ').slice(0, 1000) || `it ended with ${why}`;
    if (/definition has changed/i.test(said)) throw new SourceError('DATABASE_CHANGED', said);
    if (/Lost connection|gone away|Can't connect|server has closed/i.test(said)) throw new SourceError('DATABASE_AWAY', said);
    throw new SourceError('DUMP_FAILED', said);
  }

  kill(): void {
    this.child.kill('SIGKILL');
  }
}

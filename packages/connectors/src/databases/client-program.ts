import { spawn, type ChildProcess } from 'node:child_process';
import { closeSync, existsSync, mkdtempSync, openSync, rmSync, writeSync } from 'node:fs';
import { tmpdir } from 'node:os';
import path from 'node:path';
import type { Readable } from 'node:stream';
import type { DatabaseServer } from '@lithodex/kinds';
import { SourceError } from '../../source-error';

const mostSaid = 4000;
/** Number of the open file by which a program reads what opens the server; the next one is the certificate authority. */
const optionsFile = 3;

/** As option files want it: quoted, with backslashes doubled. */
const optionText = (text: string) => `"${text.replace(/["\\]/g, '\\$&')}"`;

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

  /** `address`: where the server was found to be. */
  static start(
    program: string,
    server: DatabaseServer,
    address: string,
    args: readonly string[],
    /** Bytes that it gathers before it writes. */
    gathers?: number,
  ): ClientProgram {
    const { authority, encrypted } = server;
    // the certificate names the host, so that is what is connected to where it is checked
    const lines = [
      '[client]',
      `host=${encrypted ? server.host : address}`,
      `port=${server.port}`,
      'protocol=tcp',
      `user=${optionText(server.account)}`,
      `password=${optionText(server.password)}`,
      ...(encrypted ? ['ssl', 'ssl-verify-server-cert', ...(authority ? [`ssl-ca=/dev/fd/${optionsFile + 1}`] : [])] : ['skip-ssl']),
    ];
    const files = [`${lines.join('\n')}\n`, ...(authority ? [authority] : [])].map(nameless);
    try {
      // programs write a few kilobytes at a time: to be woken for each costs more than what is done with it
      const [command, before] = gathers ? ['stdbuf', [`-o${gathers}`, program]] : [program, []];
      const child = spawn(command, [...before, `--defaults-file=/dev/fd/${optionsFile}`, ...args], {
        stdio: ['pipe', 'pipe', 'pipe', ...files],
        env: { PATH: process.env['PATH'], LANG: 'C.UTF-8', HOME: '/nonexistent' },
      });
      child.stdin!.on('error', () => undefined);
      return new ClientProgram(child);
    } finally {
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

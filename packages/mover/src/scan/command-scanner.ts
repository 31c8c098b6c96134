import { execFile } from 'node:child_process';
import { closeSync, openSync, rmSync, writeSync } from 'node:fs';
import path from 'node:path';
import { z } from 'zod';
import { ownFolder } from '@lithodex/connectors';
import type { RuleFind } from './rule-set';

/** A program that scans files, as whoever runs the host names it in `mover.json`. `{folder}` stands for the folder of the files. */
export const ScannerCommand = z.strictObject({
  command: z.string().regex(/^\//, 'start with /').max(4000),
  args: z.array(z.string().max(4000)).max(50),
  /** Statuses that say that it did its work: nothing found, or something. */
  statuses: z.array(z.int().min(0).max(255)).min(1).max(20).default([0, 1]),
  /** A line that tells of a find, with groups named `file` and `rule`. */
  finds: z.string().max(1000),
  minutes: z.int().min(1).max(600).default(30),
});
export type ScannerCommand = z.infer<typeof ScannerCommand>;

export class ScannerError extends Error {
  readonly code = 'SCANNER_FAILED';
}

/** What is put before the program at once. */
const mostFiles = 500;
const mostBytes = 512 << 20;
const mostOutput = 64 << 20;

/** Has files scanned by a program, many at a time: most take long to start. */
export class CommandScanner<T> {
  private folder: string | undefined;
  private readonly files = new Map<string, T>();
  private bytes = 0;

  constructor(
    private readonly name: string,
    private readonly by: ScannerCommand,
  ) {}

  /** A file to be scanned with the others, which is told of as `what`. Its content is given piece by piece; `done` ends it. */
  file(what: T): { readonly write: (piece: Buffer) => void; readonly done: () => void } {
    this.folder ??= ownFolder('scanned');
    const name = `item-${this.files.size}`;
    const handle = openSync(path.join(this.folder, name), 'wx', 0o600);
    this.files.set(name, what);
    return {
      write: (piece) => {
        for (let done = 0; done < piece.length;) done += writeSync(handle, piece, done);
        this.bytes += piece.length;
      },
      done: () => {
        closeSync(handle);
      },
    };
  }

  get isFull(): boolean {
    return this.files.size >= mostFiles || this.bytes >= mostBytes;
  }

  /** What the program finds in the files so far, which are removed then. Throws ScannerError. */
  async scan(): Promise<[T, RuleFind][]> {
    const { folder } = this;
    if (folder === undefined) return [];
    try {
      const output = await this.run(folder);
      const form = new RegExp(this.by.finds);
      const finds: [T, RuleFind][] = [];
      for (const line of output.split('\n')) {
        const { file, rule } = form.exec(line)?.groups ?? {};
        const what = file === undefined ? undefined : this.files.get(path.basename(file));
        if (what !== undefined)
          finds.push([what, { rule: (rule ?? this.name).slice(0, 200), about: `found by ${this.name}`, grade: 'infected' }]);
      }
      return finds;
    } finally {
      this.end();
    }
  }

  /** Removes what lies there. */
  end(): void {
    if (this.folder !== undefined) rmSync(this.folder, { recursive: true, force: true });
    this.folder = undefined;
    this.files.clear();
    this.bytes = 0;
  }

  private run(folder: string): Promise<string> {
    const args = this.by.args.map((a) => a.replaceAll('{folder}', folder));
    const options = {
      timeout: this.by.minutes * 60_000,
      killSignal: 'SIGKILL' as const,
      maxBuffer: mostOutput,
      env: { PATH: process.env['PATH'] },
    };
    return new Promise((resolve, reject) => {
      const child = execFile(this.by.command, args, options, (error, stdout, stderr) => {
        // below 0 where it could not be started
        const status = child.exitCode ?? -1;
        if (this.by.statuses.includes(status)) {
          resolve(stdout);
          return;
        }
        const said = (stderr || stdout).trim().split('\n').at(-1)?.slice(0, 300) ?? '';
        const how =
          status < 0 ? `could not be run or was ended: ${error?.message.split('\n')[0] ?? ''}` : `ended with status ${status}: ${said}`;
        reject(new ScannerError(`The scanner ${this.name} ${how}`));
      });
    });
  }
}

import { execFileSync } from 'node:child_process';
import { constants, openSync } from 'node:fs';
import { Socket } from 'node:net';
import path from 'node:path';
import { setTimeout as pause } from 'node:timers/promises';
import { EngineError, systemCode } from '@lithodex/engine';
import type { FileServer, ShareItemFacts } from '@lithodex/kinds';
import { quoted, smbProgram, startSmb, whyNot, type RunningProgram, type SmbWay } from '../shares/smb-program';
import { SourceError } from '../source-error';
import { accessOf, listedFiles, type ListedFile } from './smb-listing';

/** Nothing is said for so long: the other side is taken to be gone, ms. */
const silenceMs = 180_000;
const mostSaid = 8000;
/** Characters of an answer: the listing of a folder with some millions of files. */
const mostHeard = 400_000_000;
/** So often it is looked whether the program reads. */
const openEveryMs = 3;
/** As long as the words behind an answer can be. */
const mostMark = 60;
/** It ends when we are killed: it would wait for the other end of a pipe for ever, and hold a file open there meanwhile. */
const withUs = ['setpriv', '--pdeathsig', 'KILL'] as const;
/** What is said where a program is not there. */
const notThere = 127;
/** Names that a command can't say. */
const unsayable = /["\\\r\n\0]|(?:^|\/)\.\.?(?:\/|$)/;

export const wayOf = ({ host, port, account, password }: FileServer): SmbWay => ({ host, port, account, password });

/** What is wrong with one item, where the share is there. */
function itemErrorOf(said: string, what: string): SourceError {
  const status = /NT_STATUS_(\w+)/.exec(said)?.[1] ?? '';
  if (/SHARING_VIOLATION|FILE_LOCK_CONFLICT|OPLOCK/.test(status)) return new SourceError('FILE_BUSY_THERE', what);
  if (/OBJECT_NAME_NOT_FOUND|OBJECT_PATH_NOT_FOUND|NO_SUCH_FILE|DELETE_PENDING/.test(status))
    return new SourceError('FILE_GONE_THERE', what);
  if (/ACCESS_DENIED|PRIVILEGE_NOT_HELD/.test(status)) return new SourceError('FILE_SHUT_THERE', what);
  return whyNot(said);
}

/**
 * A connection to a share, by Samba's client in user space: one command at a time. Contents go through named pipes, so that nothing of them
 * lies on a disk of the mover.
 */
export class SmbSession {
  private no = 0;
  private text = '';
  private told = '';
  private waiting: { readonly mark: string; readonly done: (lines: string[]) => void; readonly failed: (error: Error) => void } | undefined;
  private dead: Error | undefined;
  private readonly pipe: Socket;
  private wake: (() => void) | undefined;
  private silence: NodeJS.Timeout | undefined;

  private constructor(
    private readonly program: RunningProgram,
    private readonly reading: string,
    private readonly writing: string,
  ) {
    this.pipe = new Socket({ fd: openSync(reading, constants.O_RDWR | constants.O_NONBLOCK), readable: true, writable: false });
    this.pipe.on('readable', () => this.wake?.());
    const { child, clear } = program;
    child.stdout.setEncoding('utf8').on('data', (text: string) => {
      this.hear(text);
    });
    child.stderr.setEncoding('utf8').on('data', (text: string) => {
      this.told = (this.told + text).slice(-mostSaid);
      this.wake?.();
    });
    child.stdin.on('error', () => undefined);
    const end = (error: Error) => {
      this.dead ??= error;
      clearTimeout(this.silence);
      this.pipe.destroy();
      clear();
      const { waiting } = this;
      this.waiting = undefined;
      waiting?.failed(this.dead);
      this.wake?.();
    };
    child.on('error', (error) => {
      end(systemCode(error) === 'ENOENT' ? new SourceError('SHARE_PROGRAM_MISSING', smbProgram) : error);
    });
    child.on('close', (status) => {
      if (status === notThere) end(new SourceError('SHARE_PROGRAM_MISSING', smbProgram));
      end(
        (this.text + this.told).includes('NT_STATUS_')
          ? whyNot(this.text + this.told)
          : new SourceError('SHARE_AWAY', 'the connection ended'),
      );
    });
  }

  /** Signs in. Throws SourceError. */
  static async open(server: FileServer, share: string): Promise<SmbSession> {
    // it reads line by line, as it waits for lines that it has read ahead; and what it says comes so, too
    const started = await startSmb(
      wayOf(server),
      [...withUs, 'stdbuf', '-i0', '-oL', smbProgram],
      ['-t', '120', `//${server.host}/${share}`],
    );
    const pipes = ['in', 'out'].map((name) => path.join(started.folder, name));
    try {
      execFileSync('mkfifo', ['-m', '600', ...pipes]);
      const session = new SmbSession(started, pipes[0]!, pipes[1]!);
      await session.ask('pwd');
      return session;
    } catch (error) {
      started.child.kill();
      throw error;
    }
  }

  private hear(text: string): void {
    const from = Math.max(0, this.text.length - mostMark);
    this.text += text;
    this.silence?.refresh();
    const { waiting } = this;
    if (this.text.length > mostHeard) this.breakOff('its answer has no end');
    if (!waiting) {
      this.text = this.text.slice(-mostSaid);
      return;
    }
    const end = this.text.indexOf(`${waiting.mark}: command not found`, from);
    if (end < 0) return;
    const said = this.text.slice(0, end);
    this.text = this.text.slice(this.text.indexOf('\n', end) + 1);
    this.waiting = undefined;
    clearTimeout(this.silence);
    waiting.done(said.split('\n'));
    this.wake?.();
  }

  private breakOff(why: string): void {
    this.dead ??= new SourceError('SHARE_AWAY', why);
    this.program.child.kill('SIGKILL');
  }

  get isDead(): boolean {
    return this.dead !== undefined;
  }

  /** Says a command, and hears what is said to it, line by line. */
  private ask(command: string): Promise<string[]> {
    if (this.dead) return Promise.reject(this.dead);
    const mark = `lithodex-mark-${++this.no}`;
    return new Promise((done, failed) => {
      this.waiting = { mark, done, failed };
      this.silence = setTimeout(() => {
        this.breakOff('it says nothing any more');
      }, silenceMs);
      this.program.child.stdin.write(`${command}\n${mark}\n`);
    });
  }

  private async act(command: string, what: string): Promise<string[]> {
    const lines = await this.ask(command);
    const failed = lines.find((line) => line.includes('NT_STATUS_'));
    if (failed !== undefined) throw itemErrorOf(failed, what);
    return lines;
  }

  private said(name: string): string {
    if (unsayable.test(name)) throw new SourceError('FILE_SHUT_THERE', 'its name can not be said to the server');
    return quoted(name);
  }

  /** What a folder holds; '' for the share itself. Throws FILE_GONE_THERE, FILE_SHUT_THERE. */
  async list(folder: string): Promise<ListedFile[]> {
    const all = this.said(folder === '' ? '*' : `${folder}/*`);
    const lines = await this.ask(`ls ${all}`);
    const files = listedFiles(lines);
    const failed = lines.find((line) => line.includes('NT_STATUS_'));
    // some servers say of an empty folder that nothing is found
    if (failed !== undefined && !(files.length === 0 && failed.includes('NT_STATUS_NO_SUCH_FILE') && folder === ''))
      throw itemErrorOf(failed, folder);
    return files;
  }

  /** One item; undefined where there is none. */
  async look(item: string): Promise<ListedFile | undefined> {
    const lines = await this.ask(`ls ${this.said(item)}`);
    const failed = lines.find((line) => line.includes('NT_STATUS_'));
    if (failed !== undefined) {
      const error = itemErrorOf(failed, item);
      if (error.code === 'FILE_GONE_THERE') return undefined;
      throw error;
    }
    return listedFiles(lines)[0];
  }

  /** Who may do what with an item; undefined where it is not told. */
  async access(item: string): Promise<ShareItemFacts['access']> {
    await this.ask('showacls');
    try {
      const lines = await this.ask(`ls ${this.said(item)}`);
      const found = accessOf(lines);
      const failed = lines.find((line) => line.includes('NT_STATUS_'));
      if (failed !== undefined) throw itemErrorOf(failed, item);
      return found;
    } finally {
      if (!this.dead) await this.ask('showacls');
    }
  }

  /** The content of a file. Throws FILE_GONE_THERE, FILE_BUSY_THERE, FILE_SHUT_THERE. */
  async *read(file: string): AsyncGenerator<Uint8Array> {
    this.told = '';
    const answer: { lines?: string[]; error?: unknown } = {};
    const asked = this.ask(`get ${this.said(file)} "${this.reading}"`).then(
      (lines) => (answer.lines = lines),
      (error: unknown) => (answer.error = error),
    );
    let got = 0;
    let whole = false;
    try {
      for (;;) {
        const piece = this.pipe.destroyed ? null : (this.pipe.read() as Buffer | null);
        if (piece) {
          got += piece.length;
          this.silence?.refresh();
          yield piece;
          continue;
        }
        if (answer.error !== undefined) throw answer.error as Error;
        const failed = answer.lines?.find((line) => line.includes('NT_STATUS_'));
        if (failed !== undefined) {
          whole = got === 0;
          throw itemErrorOf(failed, file);
        }
        const size = answer.lines && /^getting file .* of size (\d+) as .*/m.exec(this.told)?.[1];
        if (size !== undefined && got >= Number(size)) break;
        if (this.dead) throw this.dead;
        await new Promise<void>((resume) => {
          this.wake = resume;
          // what is heard between the look and the wait wakes nobody
          setTimeout(resume, 50);
        });
      }
      whole = true;
      await asked;
    } finally {
      // what is still on its way would be taken for the next
      if (!whole) this.breakOff('reading was given up');
    }
  }

  /** Writes a file anew. Throws NO_ROOM_THERE, FILE_SHUT_THERE, SHARE_REFUSED. */
  async write(file: string, pieces: AsyncIterable<Uint8Array>): Promise<void> {
    const answer = this.act(`put "${this.writing}" ${this.said(file)}`, file);
    const ended = answer.then(
      () => ({ error: undefined }),
      (error: unknown) => ({ error }),
    );
    const writer = await this.writer(ended);
    try {
      for await (const piece of pieces) {
        this.silence?.refresh();
        await new Promise<void>((done, failed) => {
          writer.write(piece, (error) => {
            if (error) failed(error);
            else done();
          });
        });
      }
    } catch (error) {
      writer.destroy();
      const { error: said } = await ended;
      // what the server says tells more than that nobody reads any more
      throw error instanceof EngineError ? error : ((said as Error | undefined) ?? error);
    }
    writer.end();
    await answer;
  }

  /** The end of the pipe that is written to, once the program reads from the other. Throws what keeps it from that. */
  private async writer(ended: Promise<{ readonly error: unknown }>): Promise<Socket> {
    for (;;) {
      try {
        const fd = openSync(this.writing, constants.O_WRONLY | constants.O_NONBLOCK);
        return new Socket({ fd, readable: false, writable: true }).on('error', () => undefined);
      } catch (error) {
        // nobody reads yet
        if (systemCode(error) !== 'ENXIO') throw this.dead ?? error;
      }
      const over = await Promise.race([ended, pause(openEveryMs, undefined)]);
      if (over) throw (over.error as Error | undefined) ?? new SourceError('SHARE_FAILED', 'nothing was written');
    }
  }

  async makeFolder(folder: string): Promise<void> {
    const lines = await this.ask(`mkdir ${this.said(folder)}`);
    const failed = lines.find((line) => line.includes('NT_STATUS_'));
    if (failed !== undefined && !failed.includes('OBJECT_NAME_COLLISION')) throw itemErrorOf(failed, folder);
  }

  /** `mtime` in ms; kept to the second. */
  async setTime(item: string, mtime: number): Promise<void> {
    const at = new Date(mtime)
      .toISOString()
      .slice(0, 19)
      .replace('T', '-')
      .replace(/^(\d+)-(\d+)-(\d+)/, '$1:$2:$3');
    await this.act(`utimes ${this.said(item)} -1 -1 ${at} -1`, item);
  }

  /** Letters: R, H, S, A. */
  async setAttributes(item: string, letters: string): Promise<void> {
    await this.act(`setmode ${this.said(item)} +${letters.toLowerCase()}`, item);
  }

  /** Puts an item in the place of another, which may be there. */
  async replace(item: string, by: string): Promise<void> {
    await this.act(`rename ${this.said(by)} ${this.said(item)} -f`, item);
  }

  async remove(file: string): Promise<void> {
    await this.act(`rm ${this.said(file)}`, file);
  }

  close(): Promise<void> {
    const { child } = this.program;
    if (child.exitCode !== null || child.signalCode !== null) return Promise.resolve();
    return new Promise((resolve) => {
      child.once('close', () => {
        resolve();
      });
      child.stdin.end();
      setTimeout(() => child.kill('SIGKILL'), 3000).unref();
    });
  }
}

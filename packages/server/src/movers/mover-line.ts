import { EventEmitter } from 'node:events';
import { randomUUID } from 'node:crypto';
import type { Question } from '@lithodex/contract';
import { ApiError } from '../errors';
import { mayAnswer, type Duty } from './duties';

interface Open {
  readonly question: Question;
  readonly settle: (ok: boolean, answer: unknown) => void;
}

const waitMs = 20_000;
const silentMs = 25_000;

/** The line to the movers: questions wait here until a mover that asks for one takes it and answers; work that appears wakes them. */
export class MoverLine {
  private waiting: string[] = [];
  private readonly open = new Map<string, Open>();
  private readonly bell = new EventEmitter().setMaxListeners(0);
  private readonly seen = new Map<string, { readonly at: number; readonly duties: readonly Duty[] }>();
  private closed = false;
  /** A mover gets some time to come back after a restart of the server. */
  private readonly startedAt = Date.now();

  /** Asks a mover whose duties cover the question. Throws MOVER_ABSENT, or MOVER_FAILED with what the mover said. */
  async ask<T>(question: Question, timeoutMs = 15_000): Promise<T> {
    const able = [...this.seen.values()].filter(({ duties }) => mayAnswer(duties, question));
    const newest = Math.max(this.startedAt, ...able.map(({ at }) => at));
    if (Date.now() - newest > silentMs) throw new ApiError('MOVER_ABSENT');
    const id = randomUUID();
    return new Promise<T>((resolve, reject) => {
      const timer = setTimeout(() => {
        this.open.delete(id);
        reject(new ApiError('MOVER_ABSENT'));
      }, timeoutMs);
      this.open.set(id, {
        question,
        settle: (ok, answer) => {
          clearTimeout(timer);
          this.open.delete(id);
          if (ok) resolve(answer as T);
          else {
            const { code, message } = (answer ?? {}) as { code?: string; message?: string };
            reject(new ApiError('MOVER_FAILED', { code }, message ?? undefined));
          }
        },
      });
      this.waiting.push(id);
      this.bell.emit('question');
    });
  }

  /** A question for this mover, or undefined after a while. */
  async next(mover: string, duties: readonly Duty[], gone: AbortSignal): Promise<{ id: string; question: Question } | undefined> {
    this.seen.set(mover, { at: Date.now(), duties });
    const until = Date.now() + waitMs;
    while (!gone.aborted && !this.closed) {
      const found = this.take(duties);
      if (found) return found;
      if (Date.now() >= until) return undefined;
      await this.ring('question', until - Date.now(), gone);
      this.seen.set(mover, { at: Date.now(), duties });
    }
    return undefined;
  }

  /** Takes the first question that is covered; those nobody waits for any more are dropped. */
  private take(duties: readonly Duty[]): { id: string; question: Question } | undefined {
    this.waiting = this.waiting.filter((id) => this.open.has(id));
    const at = this.waiting.findIndex((id) => mayAnswer(duties, this.open.get(id)!.question));
    if (at < 0) return undefined;
    const [id] = this.waiting.splice(at, 1) as [string];
    return { id, question: this.open.get(id)!.question };
  }

  answer(id: string, ok: boolean, answer: unknown): void {
    this.open.get(id)?.settle(ok, answer);
  }

  /** Wakes movers that wait for work. */
  workAppeared(): void {
    this.bell.emit('work');
  }

  /** Waits until work appears, at most `ms`. */
  async work(ms: number, gone: AbortSignal): Promise<void> {
    if (!this.closed) await this.ring('work', ms, gone);
  }

  private ring(bell: 'work' | 'question', ms: number, gone: AbortSignal): Promise<void> {
    return new Promise((resume) => {
      const done = () => {
        clearTimeout(timer);
        this.bell.off(bell, done);
        gone.removeEventListener('abort', done);
        resume();
      };
      const timer = setTimeout(done, ms);
      this.bell.once(bell, done);
      gone.addEventListener('abort', done);
    });
  }

  /** Movers heard from lately. */
  present(): string[] {
    return [...this.seen].filter(([, { at }]) => Date.now() - at < silentMs).map(([name]) => name);
  }

  /** Duties of the movers heard from lately. */
  presentDuties(): (readonly Duty[])[] {
    return this.present().map((name) => this.seen.get(name)!.duties);
  }

  /** Nobody waits here any more: the server goes. */
  get stopping(): boolean {
    return this.closed;
  }

  close(): void {
    this.closed = true;
    this.bell.emit('work');
    this.bell.emit('question');
    for (const open of this.open.values()) open.settle(false, { message: 'The server is stopping.' });
  }
}

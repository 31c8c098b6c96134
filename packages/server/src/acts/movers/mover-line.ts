import { EventEmitter } from 'node:events';
import { randomUUID } from 'node:crypto';
import { z } from 'zod';
import { answers as answerSchemas, type AnswerTo, type Question } from '@lithodex/contract';
import { ApiError } from '../../base/errors';
import type { Actor } from '../../base/http/access';
import { isUnit, mayAnswer, mayAnswerAs, readsOnly, type Asked } from '../../base/http/duties';

interface Open {
  readonly question: Question;
  /** The only mover that is asked; null for whichever may answer. */
  readonly by: string | null;
  /** The token of the mover that was given it; null while it waits. */
  givenTo: number | null;
  readonly settle: (ok: boolean, answer: unknown) => void;
}

const Failure = z.object({ code: z.string().max(60).optional(), message: z.string().max(2000).optional() });
const waitMs = 20_000;
/** A mover that has not asked for so long is not there. */
const silentMs = 25_000;
/** A unit says what it is every ten seconds. */
const silentUnitMs = 15_000;
const lookMs = 1000;

const answers = (asked: Asked, name: string, question: Question, by: string | null) =>
  by === null ? mayAnswer(asked, question) && !readsOnly(asked, name) : by === name && mayAnswerAs(asked, name, question);

const absent = (by: string | null) =>
  by === null ? new ApiError('MOVER_ABSENT') : new ApiError('MOVER_ABSENT', undefined, `The mover ${by} does not answer, which reads it.`);

const stops = () => new ApiError('MOVER_FAILED', {}, 'The server is stopping.');

/** The line to the movers: questions wait here until a mover that asks for one takes it and answers; work that appears wakes them. */
export class MoverLine {
  private waiting: string[] = [];
  private readonly open = new Map<string, Open>();
  private readonly bell = new EventEmitter().setMaxListeners(0);
  private readonly seen = new Map<string, { readonly at: number; readonly token: number | null; readonly entitled: Asked }>();
  /** Movers of another version, and when they asked last. */
  private readonly notUnderstood = new Map<string, number>();
  /** Movers that others can bring what they read, and when they last said so. */
  private readonly receiving = new Map<string, number>();
  private closed = false;
  /** A mover gets some time to come back after a restart of the server. */
  private readonly startedAt = Date.now();

  /** Asks the mover `by`, or one whose duties cover the question. Throws MOVER_ABSENT, or MOVER_FAILED with what the mover said, or where what it said is no answer. */
  async ask<Q extends Question>(question: Q, timeoutMs = 15_000, by: string | null = null): Promise<AnswerTo<Q['ask']>> {
    const absentIn = () => {
      const able = [...this.seen].flatMap(([name, seen]) => (answers(seen.entitled, name, question, by) ? [seen] : []));
      return Math.max(this.startedAt, ...able.map(({ at }) => at)) + silentMs - Date.now();
    };
    if (this.closed) throw stops();
    if (absentIn() <= 0) throw absent(by);
    const id = randomUUID();
    return new Promise((resolve, reject) => {
      const until = Date.now() + timeoutMs;
      const end = () => {
        clearTimeout(timer);
        this.open.delete(id);
      };
      // nobody waits for longer than it takes to know that no mover is there to take it
      const look = () => {
        const [left, taken] = [until - Date.now(), this.open.get(id)?.givenTo !== null];
        if (left > 0 && (taken || absentIn() > 0)) {
          timer = setTimeout(look, Math.min(left, Math.max(lookMs, absentIn())));
          return;
        }
        end();
        reject(absent(by));
      };
      let timer = setTimeout(look, Math.min(timeoutMs, absentIn()));
      const settle = (ok: boolean, answer: unknown) => {
        end();
        if (!ok) {
          const said = Failure.safeParse(answer).data;
          reject(new ApiError('MOVER_FAILED', { code: said?.code }, said?.message));
          return;
        }
        const parsed = answerSchemas[question.ask].safeParse(answer);
        if (parsed.success) resolve(parsed.data as AnswerTo<Q['ask']>);
        else reject(new ApiError('MOVER_FAILED', { code: 'NO_ANSWER' }, 'What the mover said is no answer to what it was asked.'));
      };
      this.open.set(id, { question, by, givenTo: null, settle });
      this.waiting.push(id);
      this.bell.emit('question');
    });
  }

  /** Notes that somebody was heard. */
  saw(mover: string, actor: Actor): void {
    this.seen.set(mover, { at: Date.now(), token: actor.tokenId, entitled: actor });
  }

  /** A question for this mover, or undefined after a while. */
  async next(mover: string, actor: Actor, gone: AbortSignal): Promise<{ id: string; question: Question } | undefined> {
    const present = () => {
      this.saw(mover, actor);
    };
    this.notUnderstood.delete(mover);
    present();
    const until = Date.now() + waitMs;
    while (!gone.aborted && !this.closed) {
      const found = this.take(mover, actor);
      if (found) return found;
      if (Date.now() >= until) return undefined;
      await this.ring('question', until - Date.now(), gone);
      if (!gone.aborted) present();
    }
    // a machine that goes while it waits is switched off
    if (gone.aborted && isUnit(actor)) this.seen.delete(mover);
    return undefined;
  }

  /** Takes the first question that is covered; those nobody waits for any more are dropped. */
  private take(mover: string, actor: Actor): { id: string; question: Question } | undefined {
    this.waiting = this.waiting.filter((id) => this.open.has(id));
    const at = this.waiting.findIndex((id) => {
      const { question, by } = this.open.get(id)!;
      return answers(actor, mover, question, by);
    });
    if (at < 0) return undefined;
    const [id] = this.waiting.splice(at, 1) as [string];
    const open = this.open.get(id)!;
    open.givenTo = actor.tokenId;
    return { id, question: open.question };
  }

  /** Lets a question wait again that was taken but did not reach its mover. */
  putBack(id: string): void {
    const open = this.open.get(id);
    if (!open) return;
    open.givenTo = null;
    this.waiting.unshift(id);
    this.bell.emit('question');
  }

  /** An answer, of the mover that was given the question; others are not heard. */
  answer(id: string, actor: Actor, ok: boolean, answer: unknown): void {
    const open = this.open.get(id);
    if (open?.givenTo === actor.tokenId) open?.settle(ok, answer);
  }

  /** Forgets who used a token, as it is good no more. */
  forget(token: number): void {
    for (const [name, { token: used }] of this.seen) if (used === token) this.seen.delete(name);
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
    return this.heard((entitled) => !isUnit(entitled), silentMs);
  }

  /** Machines heard from lately that were started from a recovery medium. */
  presentUnits(): string[] {
    return this.heard(isUnit, silentUnitMs);
  }

  private heard(which: (entitled: Asked) => boolean, withinMs: number): string[] {
    return [...this.seen].filter(([, { at, entitled }]) => Date.now() - at < withinMs && which(entitled)).map(([name]) => name);
  }

  /** Movers heard from lately that may read sources and keep nothing: what they read goes to others. */
  readersOnly(): string[] {
    return this.present().filter((name) => readsOnly(this.seen.get(name)!.entitled, name));
  }

  /** Who writes to a source that this mover reads: it does so itself where it keeps, otherwise any that reaches it. */
  bringsBackBy(readBy: string | null): string | null {
    return readBy !== null && this.readersOnly().includes(readBy) ? null : readBy;
  }

  /** Notes whether movers that only read can bring this one what they read. */
  note(mover: string, receives: boolean): void {
    if (receives) this.receiving.set(mover, Date.now());
    else this.receiving.delete(mover);
  }

  /** Whether a mover heard from lately can be brought what others read. */
  someReceives(): boolean {
    const present = this.present();
    return [...this.receiving].some(([name, at]) => Date.now() - at < silentMs * 2 && present.includes(name));
  }

  /** A mover asked in a language of another version. */
  refuse(mover: string): void {
    this.notUnderstood.set(mover, Date.now());
  }

  /** Movers of another version that asked lately. */
  outdated(): string[] {
    return [...this.notUnderstood].filter(([, at]) => Date.now() - at < silentMs).map(([name]) => name);
  }

  /** Duties of the movers heard from lately. */
  presentDuties(): Asked['duties'][] {
    return this.present().map((name) => this.seen.get(name)!.entitled.duties);
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

import { randomBytes } from 'node:crypto';
import { EngineError } from '../errors';
import type { Target } from '../targets/target';

/** What the pin of an installation that does not own the store begins with. */
const endsAt = 'until ';
const longestMs = 7 * 86_400_000;

/**
 * Pins of the tasks that read or write a store. A task pins before it loads the index and lets go when it has ended; what was condemned is deleted only when nobody
 * who may not know of it is pinned any more. Every attempt has a pin of its own, so that one that was overtaken can't let go for its successor.
 */
export class Pins {
  constructor(private readonly target: Target) {}

  /** Pins and returns the pin's name. `commits`: name of the root the task may commit; '' for tasks that only read. */
  async pin(taskId: string, commits = ''): Promise<string> {
    const name = `${taskId}.${randomBytes(6).toString('hex')}`;
    await this.target.put(`pins/${name}`, Buffer.from(commits));
    return name;
  }

  /** Pins for an installation that does not own the store: its tasks are unknown to the owner, so the pin counts until `until`, ms. Called again with its name, it counts longer. */
  async pinUntil(taskId: string, until: number, name = `${taskId}.${randomBytes(6).toString('hex')}`): Promise<string> {
    await this.target.put(`pins/${name}`, Buffer.from(endsAt + String(until)));
    return name;
  }

  /** Lets go. A target that can't be reached any more keeps the pin; prune takes it when the task has ended. */
  async release(pin: string): Promise<void> {
    try {
      await this.target.remove(`pins/${pin}`);
    } catch (error) {
      if (!(error instanceof EngineError)) throw error;
    }
  }

  async list(): Promise<string[]> {
    return this.target.list('pins/');
  }

  /** Whether the pin of another installation still counts. One that says it counts for weeks is of a clock that is wrong, or of somebody who wants to keep everything. */
  static counts(until: number, now: number): boolean {
    return until > now && until < now + longestMs;
  }

  /** The task a pin belongs to. */
  static taskOf(pin: string): string {
    return pin.slice(0, pin.lastIndexOf('.'));
  }

  /** Name of the root the task of a pin may commit, '' for none; until when the pin of another installation counts; undefined when it was let go. */
  async said(pin: string): Promise<{ commits: string; until: number } | undefined> {
    try {
      const text = (await this.target.read(`pins/${pin}`)).toString();
      return text.startsWith(endsAt) ? { commits: '', until: Number(text.slice(endsAt.length)) || 0 } : { commits: text, until: 0 };
    } catch (error) {
      if (error instanceof EngineError && error.code === 'OBJECT_MISSING') return undefined;
      throw error;
    }
  }
}

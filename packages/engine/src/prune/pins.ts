import { randomBytes } from 'node:crypto';
import { EngineError } from '../errors';
import type { Target } from '../targets/target';

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

  /** The task a pin belongs to. */
  static taskOf(pin: string): string {
    return pin.slice(0, pin.lastIndexOf('.'));
  }

  /** Name of the root the task of a pin may commit, '' for none; undefined when the pin was let go. */
  async commits(pin: string): Promise<string | undefined> {
    try {
      return (await this.target.read(`pins/${pin}`)).toString();
    } catch (error) {
      if (error instanceof EngineError && error.code === 'OBJECT_MISSING') return undefined;
      throw error;
    }
  }
}

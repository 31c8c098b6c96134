import { EventEmitter } from 'node:events';

/** Calls that last (events, movers that wait, downloads), by whose they are, so that they can be ended at once when that person is barred or that token withdrawn. */
export class OpenCalls {
  private readonly bell = new EventEmitter().setMaxListeners(0);

  /** Runs `end` when the calls of `key` are ended. Returns what takes it off again. */
  onEnd(key: string, end: () => void): () => void {
    this.bell.on(key, end);
    return () => {
      this.bell.off(key, end);
    };
  }

  /** Ends every open call of somebody. */
  end(key: string): void {
    this.bell.emit(key);
  }
}

export const keyOfPerson = (id: number) => `person ${id}`;
export const keyOfToken = (id: number) => `token ${id}`;

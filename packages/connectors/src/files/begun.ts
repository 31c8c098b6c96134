import { closeFile } from '@lithodex/engine';

/** Work that has begun; `done` resolves when all of it has ended and never rejects. */
export interface Begun {
  readonly done: Promise<unknown>;
}
export const nothingToDo: Begun = { done: Promise.resolve() };

/** Resolves when everything added has ended, without keeping what has. */
export class Countdown {
  private left = 1;
  private finish: () => void = () => undefined;
  readonly done = new Promise<void>((resolve) => {
    this.finish = resolve;
  });

  /** One thing more to wait for, until {@link close}. */
  open(): void {
    this.left++;
  }

  add({ done }: Begun): void {
    if (done === nothingToDo.done) return;
    this.open();
    void done.then(() => {
      this.close();
    });
  }

  /** One thing less to wait for; the first is that nothing more will be added. */
  close(): void {
    if (--this.left === 0) this.finish();
  }
}

/** An open folder that is closed when the last who works in it lets go. */
export class OpenFolder {
  private users = 1;
  /** -1: a folder that a trial has not made. */
  constructor(readonly fd: number) {}

  hold(): void {
    this.users++;
  }

  release(): void {
    if (--this.users === 0 && this.fd >= 0) closeFile(this.fd);
  }
}

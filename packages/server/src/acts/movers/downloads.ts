import type { Response } from 'express';

/** Browsers that wait for a download a mover will stream. Nothing is kept on the server. */
export class Downloads {
  private readonly waiting = new Map<string, Response>();
  private readonly listeners = new Map<string, () => void>();

  /** The browser of this task has asked. */
  offer(taskId: string, res: Response): void {
    this.waiting.set(taskId, res);
    res.on('close', () => {
      if (this.waiting.get(taskId) === res) this.waiting.delete(taskId);
    });
    this.listeners.get(taskId)?.();
  }

  /** The browser to stream to, waiting up to `ms` for it to come. */
  async take(taskId: string, ms: number): Promise<Response | undefined> {
    if (!this.waiting.has(taskId))
      await new Promise<void>((resume) => {
        const timer = setTimeout(resume, ms);
        this.listeners.set(taskId, () => {
          clearTimeout(timer);
          resume();
        });
      });
    this.listeners.delete(taskId);
    const res = this.waiting.get(taskId);
    this.waiting.delete(taskId);
    return res;
  }
}

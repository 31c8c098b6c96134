import type { FileServer } from '@lithodex/kinds';
import { SmbSession } from './smb-session';

/** Connections to a share: one for each piece of work that goes on beside others; those that broke are made anew. */
export class SessionPool {
  private readonly free: SmbSession[] = [];

  constructor(
    private readonly server: FileServer,
    private readonly share: string,
  ) {}

  /** Does something with a connection that nobody else uses meanwhile. */
  async use<T>(work: (session: SmbSession) => Promise<T>): Promise<T> {
    const session = this.free.pop() ?? (await SmbSession.open(this.server, this.share));
    try {
      return await work(session);
    } finally {
      if (session.isDead) await session.close();
      else this.free.push(session);
    }
  }

  async close(): Promise<void> {
    await Promise.all(this.free.splice(0).map((session) => session.close()));
  }
}

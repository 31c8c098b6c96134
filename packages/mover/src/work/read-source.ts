import { once } from 'node:events';
import type { MoverLine, ReadQuestion } from '@lithodex/contract';
import { connectorOf, readThrough, type HostLimits } from '@lithodex/connectors';
import { connectByTicket } from '../receiver';
import { scriptFile } from './script';
import { withScripts } from './with-scripts';

/** What a mover reads sources with. */
export interface ReadingHost {
  readonly limits: HostLimits;
  /** Folder of the scripts that policies may name. */
  readonly scripts: string | undefined;
  readonly stopped: () => boolean;
}

/** Reads a source for a mover that keeps, over a connection that is made from here with the ticket. Throws what the connection fails with. */
export async function readSource({ address, ticket, from, scripts, task }: ReadQuestion, host: ReadingHost): Promise<void> {
  const stream = await connectByTicket(address, ticket);
  try {
    const connector = await connectorOf(from.kind);
    await readThrough(stream, {
      capture: async (ctx) => {
        const log = ({ level, ...said }: MoverLine) => {
          if (level === 'warning') ctx.warn({ ...said, missing: false });
          else ctx.note(said);
        };
        const own = { scripts: host.scripts, stopped: ctx.stopped, phase: () => undefined, log };
        const { result, afterFailed } = await withScripts(own, scripts, task, () => connector.capture(ctx, from));
        return afterFailed ? { ...result, warnings: result.warnings + 1 } : result;
      },
      survey: (ctx) => {
        for (const name of [scripts?.before, scripts?.after]) if (name) scriptFile(host.scripts, name);
        return connector.survey(ctx, from);
      },
      limits: host.limits,
      stopped: host.stopped,
    });
    if (!stream.closed) await once(stream, 'close');
  } finally {
    stream.destroy();
  }
}

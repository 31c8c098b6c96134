import { randomBytes, randomUUID } from 'node:crypto';
import { once } from 'node:events';
import { mkdtempSync, rmSync } from 'node:fs';
import net, { type Socket } from 'node:net';
import { tmpdir } from 'node:os';
import path from 'node:path';
import { setTimeout } from 'node:timers/promises';
import { SourceError, isSourceError } from '@lithodex/connectors';
import { EngineError } from '@lithodex/engine';
import { ServerError } from '../api';
import type { TaskContext } from './task-context';

/** How long a mover at a source may be away, and come back. */
const patienceMs = 120_000;
const againMs = 1000;
const comesMs = 20_000;
const mostTimes = 5;
const passing = ['MOVER_ABSENT', 'MOVER_FAILED', 'DATABASE_AWAY'];

/** Runs `use` with a connection to the mover that reads the source of this task; one that is lost is made anew, and `use` runs again. Throws READER_ABSENT, READER_LOST, STOPPED, and what `use` does. */
export async function throughReader<T>(ctx: TaskContext, mover: string, use: (stream: Socket) => Promise<T>): Promise<T> {
  for (let time = 1; ; time++) {
    const stream = await connect(ctx, mover);
    ctx.log({ level: 'note', code: 'READER', path: '', message: `the source is read by the mover ${mover}` });
    try {
      return await use(stream);
    } catch (error) {
      if (!isSourceError(error, 'READER_LOST') || time === mostTimes) throw error;
      const message = `the mover ${mover} went away: it is called again, and what was stored so far is not stored again`;
      ctx.log({ level: 'warning', code: 'READER_LOST', path: '', message });
    } finally {
      stream.destroy();
    }
  }
}

/** Calls the mover until it comes. */
async function connect(ctx: TaskContext, mover: string): Promise<Socket> {
  const folder = mkdtempSync(path.join(tmpdir(), 'lithodex-reader-'));
  try {
    for (const until = Date.now() + patienceMs; ;) {
      if (ctx.stopped()) throw new EngineError('STOPPED');
      const came = await call(ctx, path.join(folder, 'line'));
      if (came) return came;
      if (Date.now() > until) throw new SourceError('READER_ABSENT', mover);
      await setTimeout(againMs);
    }
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

async function call(ctx: TaskContext, socket: string): Promise<Socket | undefined> {
  const { receive } = ctx;
  if (!receive) throw new SourceError('READER_ABSENT', 'this mover was started without an address where others reach it');
  const ticket = { id: randomUUID(), key: randomBytes(32) };
  const server = net.createServer({ pauseOnConnect: true }).listen(socket);
  try {
    await once(server, 'listening');
    const coming = once(server, 'connection', { signal: AbortSignal.timeout(comesMs) }) as Promise<[Socket]>;
    coming.catch(() => undefined);
    receive.expect({ ...ticket, socket });
    const { attempt } = ctx.task;
    await ctx.api.call(
      'callReader',
      { attempt, address: receive.address, ticket: { id: ticket.id, key: ticket.key.toString('hex') } },
      ctx.task.id,
    );
    const [stream] = await coming;
    return stream.resume();
  } catch (error) {
    // it is away or has too much to read, or the server is away
    if (error instanceof ServerError && !passing.includes(error.code)) throw error;
    return undefined;
  } finally {
    receive.forget(ticket.id);
    server.close();
  }
}

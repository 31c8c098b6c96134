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

/** How long who comes may be away, and come back. */
const patienceMs = 120_000;
const againMs = 1000;
const comesMs = 20_000;
const mostTimes = 5;
const passing = ['MOVER_ABSENT', 'MOVER_FAILED', 'DATABASE_AWAY'];

/** Somebody who comes to this mover when the server calls: what it is called by, what is told of it, and how it is missed. */
interface Comer {
  readonly name: string;
  readonly call: 'callReader' | 'callUnit';
  readonly absent: 'READER_ABSENT' | 'UNIT_ABSENT';
  readonly lost: 'READER_LOST' | 'UNIT_LOST';
  readonly came: string;
  readonly again: string;
}

/** Runs `use` with a connection to the mover that reads the source of this task; one that is lost is made anew, and `use` runs again. Throws READER_ABSENT, READER_LOST, STOPPED, and what `use` does. */
export function throughReader<T>(ctx: TaskContext, name: string, use: (stream: Socket) => Promise<T>): Promise<T> {
  const came = `the source is read by the mover ${name}`;
  const again = `the mover ${name} went away: it is called again, and what was stored so far is not stored again`;
  return throughComer(ctx, { name, call: 'callReader', absent: 'READER_ABSENT', lost: 'READER_LOST', came, again }, use);
}

/** Runs `use` with a connection to the unit that this task makes a server anew on; one that is lost is made anew, and `use` runs again. Throws UNIT_ABSENT, UNIT_LOST, STOPPED, and what `use` does. */
export function throughUnit<T>(ctx: TaskContext, name: string, use: (stream: Socket) => Promise<T>): Promise<T> {
  const came = `${name} makes its disks anew`;
  const again = `${name} went away: it is called again, and begins its disks anew`;
  return throughComer(ctx, { name, call: 'callUnit', absent: 'UNIT_ABSENT', lost: 'UNIT_LOST', came, again }, use);
}

async function throughComer<T>(ctx: TaskContext, comer: Comer, use: (stream: Socket) => Promise<T>): Promise<T> {
  for (let time = 1; ; time++) {
    const stream = await connect(ctx, comer);
    ctx.log({ level: 'note', code: 'READER', path: '', message: comer.came });
    try {
      return await use(stream);
    } catch (error) {
      if (!isSourceError(error, comer.lost) || time === mostTimes) throw error;
      ctx.log({ level: 'warning', code: comer.lost, path: '', message: comer.again });
    } finally {
      stream.destroy();
    }
  }
}

/** Calls until it comes. */
async function connect(ctx: TaskContext, comer: Comer): Promise<Socket> {
  const folder = mkdtempSync(path.join(tmpdir(), 'lithodex-reader-'));
  try {
    for (const until = Date.now() + patienceMs; ;) {
      if (ctx.stopped()) throw new EngineError('STOPPED');
      const came = await call(ctx, comer, path.join(folder, 'line'));
      if (came) return came;
      if (Date.now() > until) throw new SourceError(comer.absent, comer.name);
      await setTimeout(againMs);
    }
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

async function call(ctx: TaskContext, comer: Comer, socket: string): Promise<Socket | undefined> {
  const { receive } = ctx;
  if (!receive) throw new SourceError(comer.absent, 'this mover was started without an address where others reach it');
  const ticket = { id: randomUUID(), key: randomBytes(32) };
  const server = net.createServer({ pauseOnConnect: true }).listen(socket);
  try {
    await once(server, 'listening');
    const coming = once(server, 'connection', { signal: AbortSignal.timeout(comesMs) }) as Promise<[Socket]>;
    coming.catch(() => undefined);
    receive.expect({ ...ticket, socket });
    const { attempt } = ctx.task;
    await ctx.api.call(
      comer.call,
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

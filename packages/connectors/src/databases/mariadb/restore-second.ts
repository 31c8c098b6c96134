import { itemNameOf, joinPath } from '@lithodex/core';
import { SourceError } from '../../source-error';
import type { BringBackHooks, DatabaseBack, DatabaseRead, LogToReplay, Reading, Replayed } from '../family';
import { objectPath } from '../object-paths';
import { bringBack } from './bring-back';
import { startProgram } from './mariadb-program';
import { replayed } from './log/replay';
import { readServer } from './read-server';
import { ScratchServer } from './scratch-server';

/** Makes a past second in a scratch server: the full is loaded there, then the log is replayed. Calls `use` with what it holds then. Throws SourceError. */
export async function atSecond(
  full: readonly DatabaseBack[],
  log: LogToReplay,
  hooks: BringBackHooks,
  use: (databases: readonly DatabaseBack[], replayed: Replayed) => Promise<void>,
): Promise<void> {
  hooks.phase('starting a scratch server');
  const scratch = await ScratchServer.start();
  try {
    const quiet: BringBackHooks = {
      ...hooks,
      phase: () => undefined,
      note: () => undefined,
      done: () => undefined,
      failed: () => undefined,
    };
    hooks.phase('loading the full');
    await bringBack(scratch.server, full, { exists: 'leave', suffix: '' }, quiet);
    hooks.phase('replaying the log');
    const told = await replay(scratch, log, hooks);
    const reading = await readServer(scratch.server);
    try {
      const databases: DatabaseBack[] = [];
      for (const name of reading.names) databases.push(backOf(reading, await reading.database(name)));
      await use(databases, told);
    } finally {
      await reading.close();
    }
  } finally {
    await scratch.stop();
  }
}

async function replay(scratch: ScratchServer, log: LogToReplay, hooks: BringBackHooks): Promise<Replayed> {
  const told: Replayed = { commits: 0, last: 0 };
  const { server } = scratch;
  const events = replayed(log, told, hooks.stopped);
  const first = await events.next();
  if (first.done) return told;
  const reader = startProgram('mariadb-binlog', server, server.host, ['--verify-binlog-checksum', '-']);
  const client = startProgram('mariadb', server, server.host, ['--batch', '--binary-mode', '--max-allowed-packet=1G', '--local-infile=0']);
  try {
    const feeding = (async () => {
      for (let next: IteratorResult<Buffer, void> = first; !next.done && !reader.closed; next = await events.next()) {
        await reader.write(next.value);
        hooks.moved(next.value.length);
      }
      await reader.end();
    })();
    const passing = (async () => {
      for await (const data of reader.output as AsyncIterable<Buffer>) {
        if (client.closed) break;
        await client.write(data);
      }
      await client.end();
    })();
    await Promise.all([feeding, passing]);
    return told;
  } catch (error) {
    reader.kill();
    client.kill();
    if (error instanceof SourceError && error.code === 'DUMP_FAILED') throw new SourceError('REPLAY_FAILED', error.message);
    throw error;
  }
}

/** A database of the scratch server as something to bring back: rows are read when they are wanted. */
function backOf(reading: Reading, d: DatabaseRead): DatabaseBack {
  const below = itemNameOf(d.name);
  return {
    to: d.name,
    text: () => Promise.resolve(d.text),
    tables: d.tables.map((t) => ({
      name: t.name,
      path: joinPath(below, objectPath('table', t.name)),
      text: () => reading.table(d.name, t),
    })),
    others: d.others.map((o) => ({
      type: o.type,
      name: o.name,
      path: joinPath(below, objectPath(o.type, o.name)),
      text: () => Promise.resolve(o.text),
    })),
  };
}

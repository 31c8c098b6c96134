import { SourceError } from '../../source-error';
import { quietly, type BringBackHooks, type DatabaseBack, type LogToReplay, type Replayed } from '../family';
import { bringBack } from './bring-back';
import { startProgram } from './mariadb-program';
import { replayed } from './log/replay';
import { ScratchServer } from './scratch-server';

/** Makes a past second in a scratch server: the full is loaded there, then the log is replayed. Throws SourceError. */
export async function atSecond(
  full: readonly DatabaseBack[],
  log: LogToReplay,
  hooks: BringBackHooks,
): Promise<{ scratch: ScratchServer; replayed: Replayed }> {
  hooks.phase('starting a scratch server');
  const scratch = await ScratchServer.start();
  try {
    hooks.phase('loading the full');
    await bringBack(scratch.server, full, { exists: 'leave', suffix: '' }, quietly(hooks));
    hooks.phase('replaying the log');
    return { scratch, replayed: await replay(scratch, log, hooks) };
  } catch (error) {
    await scratch.stop();
    throw error;
  }
}

async function replay(scratch: ScratchServer, log: LogToReplay, hooks: BringBackHooks): Promise<Replayed> {
  const told = { commits: 0 };
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

import { rmSync } from 'node:fs';
import { open } from 'node:fs/promises';
import path from 'node:path';
import { EngineError } from '@lithodex/engine';
import type { DatabaseServer } from '@lithodex/kinds';
import { SourceError } from '../../../source-error';
import type { Stopped } from '../../family';
import { LogGap } from '../../log-point';
import { ownFolder } from '../../../own-folder';
import { startProgram } from '../mariadb-program';
import { LogReader } from './events';

const logProgram = 'mariadb-binlog';
const readBytes = 1 << 20;
const noPlaceOfLog = /log event entry exceeded|impossible position|binlog truncated|could not find first log|bogus data|unable to read/i;

export const resetWords = (file: string): string =>
  `the log ${file} of the server is another one than before: it was reset, or the server was set back`;

/** Fetches a file of the log from a place on, and passes on what comes. Throws SourceError, and LogGap where that is no place of this log. */
export async function fetchLog(
  { server, address, file, at }: { readonly server: DatabaseServer; readonly address: string; readonly file: string; readonly at: number },
  take: (data: Buffer, reader: LogReader) => Promise<void>,
  stopped: Stopped,
): Promise<LogReader> {
  const folder = ownFolder('log');
  try {
    const args = ['--read-from-remote-server', '--raw', `--result-file=${folder}/`, `--start-position=${at}`, file];
    try {
      await startProgram(logProgram, server, address, args).end();
    } catch (error) {
      if (error instanceof SourceError && noPlaceOfLog.test(error.message)) throw new LogGap(resetWords(file));
      throw error;
    }
    const reader = new LogReader(file, at);
    const handle = await open(path.join(folder, file));
    try {
      for (;;) {
        const buffer = Buffer.allocUnsafe(readBytes);
        const { bytesRead } = await handle.read(buffer, 0, buffer.length);
        if (bytesRead === 0) break;
        if (stopped()) throw new EngineError('STOPPED');
        await take(buffer.subarray(0, bytesRead), reader);
      }
    } finally {
      await handle.close();
    }
    return reader;
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

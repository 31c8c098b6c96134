import { createInterface } from 'node:readline';
import type { DatabaseCommit } from '@lithodex/kinds';
import { EngineError } from '@lithodex/engine';
import { ClientProgram } from '../../client-program';
import { SourceError } from '../../../source-error';
import { programPath } from '../programs';
import { placeText } from './lsn';
import { WalCommits, type Relations } from './wal-commits';

export interface RecordsToRead {
  /** Holds the segments. */
  readonly folder: string;
  readonly timeline: number;
  readonly from: number;
  readonly to: number;
  readonly relations: Relations;
}

/** What a log is called: places go on only within one timeline. */
export const logName = (timeline: number): string => `timeline ${timeline}`;

/** Reads the records between two places, each with its sum checked, and passes on the commits. Throws LOG_DAMAGED. */
export async function readRecords(
  { folder, timeline, from, to, relations }: RecordsToRead,
  take: (commit: DatabaseCommit) => void,
  stopped: () => boolean = () => false,
): Promise<void> {
  if (from >= to) return;
  const args = [`--path=${folder}`, `--timeline=${timeline}`, `--start=${placeText(from)}`, `--end=${placeText(to)}`];
  const program = ClientProgram.start(programPath('pg_waldump'), args, { files: [], env: { TZ: 'UTC' } });
  const commits = new WalCommits(logName(timeline), relations, take);
  try {
    for await (const line of createInterface({ input: program.output, crlfDelay: Infinity })) {
      if (stopped()) throw new EngineError('STOPPED');
      commits.take(line);
    }
    await program.end();
  } catch (error) {
    program.kill();
    if (error instanceof SourceError && error.code === 'DUMP_FAILED') throw new SourceError('LOG_DAMAGED', error.details);
    throw error;
  }
}

import { filesItem } from '@lithodex/kinds';
import { SourceError } from '../../source-error';
import type { BringBackHooks, DatabaseBack, LogToReplay, Replayed } from '../family';
import { contentOf } from '../stored-content';
import { PgConnection } from './connection';
import type { LogState } from './log/capture-log';
import { placeOf, placeText, segmentName, segmentsBetween } from './log/lsn';
import { segmentsOf, writeSegments, type Segment } from './log/segments';
import type { FilesState } from './read-server';
import { ScratchServer, type RecoveryTarget } from './scratch-server';

const secondMs = 1000;

/** The segments that lead from the copied files to a moment, none missing. Throws LOG_LACKS. */
function needed(
  all: readonly Segment[],
  { stretch, until, end }: LogToReplay,
  files: FilesState,
  { size, stretches }: LogState,
): Segment[] {
  const known = stretches[String(stretch)];
  if (known?.timeline !== files.timeline || known.from > files.from || known.to < files.to)
    throw new SourceError('LOG_LACKS', 'the log does not hold what belongs to the full');
  const own = all.filter((s) => s.stretch === stretch);
  const names = segmentsBetween(files.timeline, files.from, known.to - 1, size);
  const found = new Map(own.map((s) => [s.entry.name, s]));
  const missing = names.find((name) => !found.has(name));
  if (missing) throw new SourceError('LOG_LACKS', `${missing} is not there`);
  if ('file' in until && until.position >= known.to)
    throw new SourceError('LOG_LACKS', `it ends at ${placeText(stretch === end.stretch ? end.at : known.to)}`);
  const last = segmentName(files.timeline, files.to, size);
  const wanted = names.map((name) => found.get(name)!);
  // what was committed in a segment is no later than its time
  const enough = wanted.findIndex(({ entry }) =>
    'file' in until
      ? entry.name > segmentName(files.timeline, until.position, size)
      : entry.name > last && Number(entry.mtimeNs / 1_000_000n) > until.at + secondMs,
  );
  return enough < 0 ? wanted : wanted.slice(0, enough + 1);
}

/** Makes a past second in a scratch server of the copied files of a full: it reads the log up to there. Throws SourceError. */
export async function atSecond(
  _: readonly DatabaseBack[],
  log: LogToReplay,
  hooks: BringBackHooks,
): Promise<{ scratch: ScratchServer; replayed: Replayed }> {
  const { full, until } = log;
  const files = full.root.content.state as Partial<FilesState>;
  if (files.owner === undefined) throw new SourceError('LOG_LACKS', 'the full does not hold the files of the server');
  const state = log.state as LogState;
  const segments = needed(await segmentsOf(log.store, log.top), log, files as FilesState, state);
  hooks.phase('starting a scratch server');
  const scratch = ScratchServer.make(files.owner);
  try {
    hooks.phase('loading the full');
    const archive = await full.store.trees.find(full.top, filesItem);
    await scratch.unpack(contentOf(full.store, archive), hooks.moved, hooks.stopped);
    hooks.phase('replaying the log');
    await writeSegments(log.store, segments, scratch.wal, hooks.moved);
    // all of the second that is wanted
    const target: RecoveryTarget = 'file' in until ? { before: placeText(until.position) } : { time: until.at + secondMs - 1 };
    await scratch.recover(target, hooks.stopped);
    await sayReached(scratch, files as FilesState);
    return { scratch, replayed: { commits: null } };
  } catch (error) {
    await scratch.stop();
    throw error;
  }
}

/** Copied files are whole only where the log was read beyond the end of the copy. */
async function sayReached(scratch: ScratchServer, { to }: FilesState): Promise<void> {
  const c = await PgConnection.open(scratch.server);
  try {
    const { lsn } = (await c.row<{ lsn: string }>('SELECT pg_current_wal_lsn()::text AS lsn'))!;
    if (placeOf(lsn) < to) throw new SourceError('LOG_LACKS', `it ends at ${lsn}, before the full was whole`);
  } finally {
    await c.close();
  }
}

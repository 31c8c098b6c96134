import { rmSync } from 'node:fs';
import type { DatabaseCommit } from '@lithodex/kinds';
import type { CommitsAround, LogToReplay } from '../../family';
import { ownFolder } from '../../../own-folder';
import type { LogState } from './capture-log';
import { segmentStart } from './lsn';
import { readRecords } from './read-records';
import { segmentsOf, writeSegments } from './segments';

/** Segments that are read before and behind the one that a moment lies in. */
const nearby = 2;

/** The commits around a moment: those before it come first. Reads no more than the segments they stand in. Throws SourceError. */
export async function commitsAround(
  { store, top, state }: Pick<LogToReplay, 'store' | 'top'> & { readonly state: object },
  { stretch, at, before, after }: CommitsAround,
): Promise<DatabaseCommit[]> {
  const { size, stretches } = state as LogState;
  const known = stretches[String(stretch)];
  const segments = (await segmentsOf(store, top)).filter((s) => s.stretch === stretch);
  if (!known || !segments.length) return [];
  const middle = segments.findIndex(({ entry }) => Number(entry.mtimeNs / 1_000_000n) >= at);
  const begin = Math.max(0, (middle < 0 ? segments.length : middle) - nearby);
  const some = segments.slice(begin, begin + 2 * nearby + 1);
  const folder = ownFolder('log');
  const [earlier, later]: [DatabaseCommit[], DatabaseCommit[]] = [[], []];
  try {
    await writeSegments(store, some, folder);
    const start = segmentStart(known.from, size) + begin * size;
    const from = Math.max(start, known.from);
    const to = Math.min(start + some.length * size, known.to);
    await readRecords({ folder, timeline: known.timeline, from, to, relations: (state as LogState).relations }, (commit) => {
      (commit.at <= at ? earlier : later).push(commit);
    });
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
  return [...earlier.slice(-before), ...later.slice(0, after)];
}

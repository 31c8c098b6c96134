import type { DatabaseCommit } from '@lithodex/kinds';
import type { CommitsAround, LogToReplay } from '../../family';
import { CommitReader } from './commits';
import { LogReader } from './events';
import { contentOf } from '../../stored-content';
import { piecesOf } from './pieces';

/** The commits around a moment: those before it come first. Reads no more than the pieces they stand in. Throws SourceError. */
export async function commitsAround(
  { store, top }: Pick<LogToReplay, 'store' | 'top'>,
  { stretch, at, before, after }: CommitsAround,
): Promise<DatabaseCommit[]> {
  const pieces = (await piecesOf(store, top)).filter((p) => p.stretch === stretch);
  // the time of a piece is that of its last event
  const middle = pieces.findIndex((p) => Number(p.entry.mtimeNs / 1_000_000n) >= at);
  const begin = middle < 0 ? pieces.length : middle;
  let earlier: DatabaseCommit[] = [];
  const later: DatabaseCommit[] = [];
  const read = async (i: number) => {
    const piece = pieces[i]!;
    const found: DatabaseCommit[] = [];
    const reader = new LogReader(piece.file, piece.from);
    const commits = new CommitReader(piece.file, (c) => found.push(c));
    for await (const data of contentOf(store, piece.entry)) for (const event of reader.take(data)) commits.take(event, reader.checked);
    commits.close();
    return found;
  };
  for (let i = begin; i < pieces.length && later.length < after; i++)
    for (const commit of await read(i)) (commit.at <= at ? earlier : later).push(commit);
  for (let i = begin - 1; i >= 0 && earlier.length < before; i--) earlier = [...(await read(i)), ...earlier];
  return [...earlier.slice(-before), ...later.slice(0, after)];
}

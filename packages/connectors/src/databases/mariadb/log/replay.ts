import { EngineError } from '@lithodex/engine';
import type { DatabaseUntil } from '@lithodex/kinds';
import { SourceError } from '../../../source-error';
import type { LogToReplay } from '../../family';
import { readQuery } from './commits';
import { bodyOf, eventType, LogReader, magic, type LogEvent } from './events';
import { contentOf } from '../../stored-content';
import { piecesOf } from './pieces';

/** Statements about accounts: a scratch server has none of those of the server. */
export const aboutAccounts =
  /^\s*(GRANT|REVOKE|((CREATE|ALTER|DROP|RENAME)\s+(OR\s+REPLACE\s+)?(USER|ROLE))|SET\s+(PASSWORD|(DEFAULT\s+)?ROLE)|FLUSH)\b/i;

/**
 * The log between two moments as one file: its first event is the one that says how to read the rest, and transactions that only concern accounts are left out. Ends before the first
 * commit after the wanted moment. Throws SourceError when pieces are missing or damaged.
 */
export async function* replayed(
  { store, top, stretch, from, end, until }: LogToReplay,
  told: { commits: number },
  stopped: () => boolean,
): AsyncGenerator<Buffer> {
  const pieces = (await piecesOf(store, top)).filter((p) => p.stretch === stretch);
  const first = pieces.findLastIndex((p) => p.file === from.file && p.from <= from.at);
  const isNewest = stretch === end.stretch;
  const isEnd = (place: typeof from) => place.file === end.file && place.at === end.at;
  // nothing was committed since
  if (first < 0 && (isNewest ? isEnd(from) : pieces.length === 0) && !('file' in until)) return;
  if (first < 0) throw new SourceError('LOG_LACKS', `${from.file} at ${from.at} is not there`);
  yield magic;
  let next: { file: string; at: number } = from;
  let formatSent = false;
  /** The transaction that is being read. */
  let group: Buffer[] = [];
  let dropped = false;
  for (const piece of pieces.slice(first)) {
    if (piece.file !== next.file) {
      if (piece.from !== magic.length) throw new SourceError('LOG_LACKS', `the beginning of ${piece.file} is not there`);
    } else if (piece.from > next.at) throw new SourceError('LOG_LACKS', `${piece.file} from ${next.at} to ${piece.from} is not there`);
    const reader = new LogReader(piece.file, piece.from);
    for await (const data of contentOf(store, piece.entry))
      for (const event of reader.take(data)) {
        if (stopped()) throw new EngineError('STOPPED');
        const begins = event.end - event.data.length;
        if (event.type === eventType.format) {
          if (!formatSent) yield event.data;
          formatSent = true;
          continue;
        }
        if (event.madeUp || (piece.file === from.file && begins < from.at)) continue;
        if (event.type === eventType.gtid) {
          if (!dropped) yield* group;
          group = [];
          dropped = false;
          if (isAfter(event, piece.file, begins, until)) return;
          told.commits++;
        }
        if (betweenFiles.includes(event.type)) continue;
        if (event.type === eventType.query && aboutAccounts.test(readQuery(bodyOf(event, reader.checked)).sql)) dropped = true;
        group.push(event.data);
      }
    if (reader.cut) throw new SourceError('LOG_DAMAGED', `${piece.file} ends within an event`);
    next = { file: piece.file, at: reader.next };
  }
  if ('file' in until) throw new SourceError('LOG_LACKS', `${until.file} at ${until.position} is not there`);
  if (isNewest && !isEnd(next)) throw new SourceError('LOG_LACKS', `${end.file} up to ${end.at} is not there`);
  if (!dropped) yield* group;
}

/** What only says how files follow each other, and what was there before. */
const betweenFiles: readonly number[] = [eventType.rotate, eventType.stop, eventType.checkpoint, eventType.gtidList];

function isAfter(event: LogEvent, file: string, begins: number, until: DatabaseUntil): boolean {
  return 'file' in until ? file === until.file && begins >= until.position : event.at * 1000 > until.at;
}

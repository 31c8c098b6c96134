import { byName, StreamContent, topEntry, writeFolder, type Root, type TreeEntry } from '@lithodex/engine';
import type { DatabaseCommit, DatabaseServer, LogStart } from '@lithodex/kinds';
import type { CaptureContext, PointContent } from '../../../connector';
import type { PointWriting } from '../../../capture-store';
import { SourceError } from '../../../source-error';
import { MariadbConnection } from '../connection';
import { LogGap, logPoint, manyRows } from '../../log-point';
import { SmallContent, smallBytes } from '../../small-content';
import { temporaryName } from '../../temporary-name';
import { CommitReader } from './commits';
import { eventType, magic } from './events';
import { fetchLog, resetWords } from './fetch-log';
import { growing, logFolder, pieceFolder, pieceName, piecesOf, type Piece } from './pieces';

/** A statement that drops or empties a table is told by itself. */
const takesAway = /^\s*(\/\*.*?\*\/\s*)*(TRUNCATE|DROP\s+(TABLE|DATABASE|SCHEMA)|ALTER\s+TABLE\b.*\bDROP\b)/is;
const hourMs = 3_600_000;
/** Of more parts no piece consists for long: each may be an object of its own on the target. */
const mostParts = 16;

/** What the next capture has to know. */
interface LogState {
  readonly stretch: number;
  readonly file: string;
  readonly at: number;
  /** When the file was begun, seconds: another one of the same name was begun at another time. */
  readonly begun: number;
  readonly server: number;
}

const stateOf = ({ content }: Pick<Root, 'content'>): LogState => content.state as LogState;

interface Place {
  readonly server: number;
  readonly nowMs: number;
  readonly files: readonly { readonly name: string; readonly size: number }[];
  readonly end: { readonly file: string; readonly at: number };
}

async function placeOf(c: MariadbConnection): Promise<Place> {
  const row = (await c.row<{ log: number; server: number; now: string | number }>(
    'SELECT @@log_bin AS log, @@server_id AS server, UNIX_TIMESTAMP(NOW(3)) AS now',
  ))!;
  if (row.log !== 1) throw new SourceError('LOG_OFF');
  const files = await c.rows<{ Log_name: string; File_size: number }>('SHOW BINARY LOGS');
  const status = await c.row<{ File: string; Position: number }>('SHOW MASTER STATUS');
  return {
    server: row.server,
    // more may be committed within the second it is
    nowMs: Math.floor(Number(row.now)) * 1000 - 1000,
    files: files.map((f) => ({ name: f.Log_name, size: Number(f.File_size) })),
    end: { file: status!.File, at: Number(status!.Position) },
  };
}

/** Whether the log ends elsewhere than a point of it does. Throws SourceError. */
export async function grew(server: DatabaseServer, state: object): Promise<boolean> {
  const { file, at } = state as LogState;
  const connection = await MariadbConnection.open(server);
  try {
    const status = await connection.row<{ File: string; Position: number }>('SHOW MASTER STATUS');
    return status?.File !== file || Number(status.Position) !== at;
  } finally {
    await connection.close();
  }
}

/** Where the first event of a file stands. */
const firstEvent = magic.length;

/** Why the log can't go on where it is wanted to; '' when it can, as far as the list of its files tells. */
function whyNot({ files, end, server }: Place, before: LogState | undefined, wanted: { file: string; at: number }): string {
  if (before && before.server !== server)
    return `it is another server now (number ${server} instead of ${before.server}), so the log of before does not go on`;
  const file = files.find((f) => f.name === wanted.file);
  if (!file) return `the log ${wanted.file} of the server is not there any more: it was purged before it was read, or reset`;
  return Math.max(file.size, file.name === end.file ? end.at : 0) < wanted.at ? resetWords(wanted.file) : '';
}

function plainEntry(name: string, kind: 'file' | 'folder', mtimeNs: bigint): TreeEntry {
  return { name, kind, mode: kind === 'file' ? 0o600 : 0o700, uid: 0, gid: 0, mtimeNs, ctimeNs: 0n, inode: 0, size: 0 };
}

/** Fetches what was added to the log since the point before, checks every event, and stores it beside what is still needed of it. Throws SourceError. */
export class LogCapture {
  private readonly added = new Map<string, TreeEntry[]>();
  private readonly found: DatabaseCommit[] = [];
  private commits = 0;
  private read = 0;
  /** All of the point before is still needed. */
  private same = false;

  constructor(
    private readonly ctx: CaptureContext,
    private readonly writing: PointWriting,
    private readonly server: DatabaseServer,
    private readonly start: LogStart | null,
  ) {}

  async run(): Promise<PointContent> {
    const connection = await MariadbConnection.open(this.server);
    try {
      const place = await placeOf(connection);
      return await this.capture(place, connection.address);
    } finally {
      await connection.close();
    }
  }

  private async capture(place: Place, address: string): Promise<PointContent> {
    const { ctx } = this;
    const { base } = ctx;
    const before = base && stateOf(base);
    const kept = await this.kept(base);
    const wanted = before ?? this.start ?? place.end;
    let { begun = 0, stretch = 1 } = before ?? {};
    let cause = whyNot(place, before, wanted);
    let begins: { file: string; at: number } = wanted;
    let last: { file: string; at: number } = wanted;
    if (!cause)
      try {
        ({ last, begun } = await this.follow(address, place, wanted, begun, stretch, kept));
      } catch (error) {
        if (!(error instanceof LogGap)) throw error;
        cause = error.message;
      }
    if (cause) {
      // nothing is known between what was read last and what is written from now on
      stretch = before ? stretch + 1 : 1;
      begins = place.end;
      ({ last, begun } = await this.follow(address, place, begins, 0, stretch, kept));
    }
    return logPoint(ctx, this.writing, this.start, {
      family: 'mariadb',
      top: await this.tree(kept),
      files: kept.length,
      read: this.read,
      stretch,
      begins: { file: begins.file, at: begins.at },
      cause,
      nowMs: place.nowMs,
      notable: this.found,
      commits: this.commits,
      state: { stretch, ...last, begun, server: place.server } satisfies LogState,
    });
  }

  /** Reads the log from a place on to its end. Throws LogGap when that is no place of this log. */
  private async follow(
    address: string,
    { files, end }: Place,
    { file, at }: { readonly file: string; readonly at: number },
    begun: number,
    stretch: number,
    kept: Piece[],
  ): Promise<{ last: { file: string; at: number }; begun: number }> {
    let last = { file, at };
    for (const { name, size } of files.slice(files.findIndex((f) => f.name === file))) {
      const first = name === file;
      const begins = first ? at : firstEvent;
      const bytes = Math.max(size, name === end.file ? end.at : 0) - begins;
      const fetched = await this.fetch(address, { file: name, at: begins, bytes, stretch, begun: first ? begun : 0 }, kept);
      last = { file: name, at: fetched.next };
      begun = fetched.begun;
    }
    return { last, begun };
  }

  /** Pieces of before that a full still needs. */
  private async kept(base: Root | undefined): Promise<Piece[]> {
    if (!base) return [];
    const needed = (this.start?.moment ?? 0) - hourMs;
    const all = await piecesOf(this.ctx.store, topEntry(base));
    const kept = all.filter((p) => Number(p.entry.mtimeNs / 1_000_000n) >= needed);
    this.same = kept.length === all.length;
    return kept;
  }

  /** Stores what a file of the log holds from `at` on (about so many bytes), as a piece or as the end of a small one; one of many parts is read once more, and stored as one. Returns where it ended, and when the file was begun. */
  private async fetch(
    address: string,
    { file, at, bytes, stretch, begun }: { file: string; at: number; bytes: number; stretch: number; begun: number },
    kept: Piece[],
  ): Promise<{ next: number; begun: number }> {
    const { ctx, writing } = this;
    const tail = kept.at(-1);
    const grows = tail?.stretch === stretch && tail.file === file && at > firstEvent ? growing(tail) : undefined;
    const anew = grows !== undefined && grows.content.lengths.length >= mostParts;
    const joins = anew ? undefined : grows;
    const begin = anew ? grows.from : at;
    const small = bytes + at - begin <= smallBytes;
    const stream = small ? new SmallContent(writing.put) : new StreamContent(writing.pool, writing.put);
    let opened = joins !== undefined;
    let latest = joins ? Number(joins.entry.mtimeNs / 1_000_000_000n) : 0;
    let written = 0;
    const commits = new CommitReader(file, (commit) => {
      if (commit.position < at) return;
      this.commits++;
      if (isNotable(commit)) this.found.push(commit);
    });
    const reader = await fetchLog(
      { server: this.server, address, file, at: begin },
      async (data, r) => {
        for (const event of r.take(data)) {
          if (event.type === eventType.format) {
            if (begun !== 0 && event.at !== begun) throw new LogGap(resetWords(file));
            begun = event.at;
            if (opened) continue;
            opened = true;
            await stream.write(magic);
          } else if (event.madeUp) continue;
          await stream.write(event.data);
          if (event.madeUp) continue;
          latest = Math.max(latest, event.at);
          written += event.data.length;
          commits.take(event, r.checked);
        }
        await writing.drain();
      },
      ctx.stopped,
    );
    if (reader.cut) throw new SourceError('LOG_DAMAGED', `${file} ends within an event at ${reader.next}`);
    commits.close();
    if (written === 0) return { next: at, begun };
    this.read += written;
    const added = await stream.finish(joins?.content);
    const { content } = added;
    const from = grows?.from ?? at;
    const size = (joins?.entry.size ?? 0) + added.size;
    const entry = { ...plainEntry(pieceName(from), 'file', BigInt(latest) * 1_000_000_000n), size, ...(content && { content }) };
    if (grows) kept.pop();
    kept.push({ stretch, file, from, entry });
    ctx.progress({ items: kept.length, files: kept.length, bytes: this.read, read: this.read }, writing.packed);
    return { next: reader.next, begun };
  }

  private async tree(pieces: readonly Piece[]): Promise<TreeEntry> {
    const { put } = this.writing;
    const { base } = this.ctx;
    if (base && this.same && this.read === 0) return topEntry(base);
    const folders = new Map<string, TreeEntry[]>();
    for (const p of pieces) {
      const folder = pieceFolder(p.stretch, p.file);
      folders.set(folder, [...(folders.get(folder) ?? []), p.entry]);
    }
    const at = BigInt(this.ctx.now()) * 1_000_000n;
    const folderOf = (name: string, entries: TreeEntry[]): TreeEntry => ({
      ...plainEntry(name, 'folder', at),
      folder: writeFolder(put, entries.sort(byName)),
    });
    const stretches = new Map<string, TreeEntry[]>();
    for (const [folder, entries] of folders) {
      const [stretch, file] = folder.split('/') as [string, string];
      stretches.set(stretch, [...(stretches.get(stretch) ?? []), folderOf(file, entries)]);
    }
    const log = folderOf(
      logFolder,
      [...stretches].map(([name, entries]) => folderOf(name, entries)),
    );
    await this.writing.drain();
    return folderOf('', [log]);
  }
}

function isNotable({ statement, tables }: DatabaseCommit): boolean {
  // what a restore made and took away again
  if (statement.includes(temporaryName)) return false;
  return (
    tables.some((t) => t.change === 'deleted' && t.rows >= manyRows) ||
    (tables.some((t) => t.change === 'statement') && takesAway.test(statement))
  );
}

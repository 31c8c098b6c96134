import { createHash } from 'node:crypto';
import { createReadStream, readdirSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import { open } from 'node:fs/promises';
import path from 'node:path';
import { byName, EngineError, StreamContent, topEntry, writeFolder, type Root, type TreeEntry } from '@lithodex/engine';
import type { DatabaseCommit, DatabaseServer, LogStart } from '@lithodex/kinds';
import type { CaptureContext, PointContent } from '../../../connector';
import type { PointWriting } from '../../../capture-store';
import { SourceError } from '../../../source-error';
import { LogGap, logPoint } from '../../log-point';
import { ownFolder } from '../../../own-folder';
import { temporaryName } from '../../temporary-name';
import { commonDatabase, PgConnection } from '../connection';
import { startProgram } from '../programs';
import { databaseNames } from '../read-server';
import { placeOf, placeText, segmentName, segmentStart } from './lsn';
import { isNotable, type Relations } from './wal-commits';
import { logName, readRecords } from './read-records';
import { logFolder, segmentsOf, type Segment } from './segments';
import { holdLog, releaseLog } from './slot';

const readBytes = 1 << 20;
const mostRelations = 50_000;
const stoppedEveryMs = 500;
const noLogThere = /has already been removed|not in this server's history|is ahead of|could not find/i;

/** What the next capture has to know. */
export interface LogState {
  readonly stretch: number;
  readonly file: string;
  /** Where it ended. */
  readonly at: number;
  readonly timeline: number;
  /** The number that a server is born with. */
  readonly system: string;
  /** Bytes of a segment. */
  readonly size: number;
  /** Tables by their files, those that are gone too. */
  readonly relations: Relations;
  /** Sum of the last segment up to the end: the server is asked for it again, so that one that was set back and has gone on another way since is known by it. */
  readonly tail?: string;
  /** Between which places each stretch is stored. */
  readonly stretches: Readonly<Record<string, { readonly timeline: number; readonly from: number; readonly to: number }>>;
}

interface Place {
  readonly system: string;
  readonly timeline: number;
  readonly size: number;
  readonly end: number;
  readonly nowMs: number;
}

async function placeNow(c: PgConnection): Promise<Place> {
  const row = (await c.row<Record<'system' | 'timeline' | 'size' | 'lsn' | 'now' | 'level' | 'recovers', string>>(
    `SELECT (SELECT system_identifier FROM pg_control_system())::text AS system,
       -- one that has just taken over tells its new timeline late elsewhere
       CASE WHEN pg_is_in_recovery() THEN (SELECT timeline_id FROM pg_control_checkpoint())::text
         ELSE ('x' || left(pg_walfile_name(pg_current_wal_lsn()), 8))::bit(32)::int::text END AS timeline,
       (SELECT bytes_per_wal_segment FROM pg_control_init())::text AS size, pg_is_in_recovery()::text AS recovers,
       (CASE WHEN pg_is_in_recovery() THEN pg_last_wal_replay_lsn() ELSE pg_current_wal_flush_lsn() END)::text AS lsn,
       extract(epoch FROM clock_timestamp())::text AS now, current_setting('wal_level') AS level`,
  ))!;
  if (row.level === 'minimal') throw new SourceError('LOG_OFF', 'wal_level is minimal');
  return {
    system: row.system,
    timeline: Number(row.timeline),
    size: Number(row.size),
    end: placeOf(row.lsn),
    // more may be committed within the second it is
    nowMs: Math.floor(Number(row.now)) * 1000 - 1000,
  };
}

/** Whether the log ends elsewhere than a point of it does. Throws SourceError. */
export async function grew(server: DatabaseServer, state: object): Promise<boolean> {
  const c = await PgConnection.open(server, commonDatabase);
  try {
    return (await placeNow(c)).end !== (state as LogState).at;
  } finally {
    await c.close();
  }
}

/** Tables of all databases by their files. */
async function relationsOf(server: DatabaseServer, c: PgConnection): Promise<Relations> {
  const found: Record<string, { database: string; table: string }> = {};
  for (const name of await databaseNames(c)) {
    const inside = await PgConnection.open(server, name);
    try {
      const rows = await inside.rows<{ key: string; name: string }>(
        `SELECT d.oid || '/' || pg_relation_filenode(c.oid) AS key, quote_ident(n.nspname) || '.' || quote_ident(c.relname) AS name
         FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace, pg_database d
         WHERE d.datname = current_database() AND c.relkind IN ('r', 'm') AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' LIMIT ${mostRelations}`,
      );
      for (const row of rows) found[row.key] = { database: name, table: row.name };
    } finally {
      await inside.close();
    }
  }
  return found;
}

const stateOf = ({ content }: Root): LogState => content.state as LogState;

const setBackWords = 'the log of the server is not the one that was read before: it was set back';

/** Why the log can't go on where it ended; '' where it may. */
function whyNot({ system, timeline, end }: Place, before: LogState | undefined): string {
  if (!before) return '';
  if (before.system !== system) return 'it is another server now, so the log of before does not go on';
  if (before.timeline !== timeline)
    return `the server goes on on another timeline (${timeline} instead of ${before.timeline}): it was restored, or another one took over`;
  return end < before.at ? setBackWords : '';
}

/** From where a stretch is followed, and what the point before knows. */
interface Following {
  readonly from: number;
  readonly stretch: number;
  readonly relations: Relations;
  readonly before: LogState | undefined;
}

/** Sum of the part of a segment in a folder that lies before a place of the log. */
async function tailOf(folder: string, timeline: number, size: number, end: number): Promise<string> {
  const from = segmentStart(end - 1, size);
  const sum = createHash('sha256');
  const file = path.join(folder, segmentName(timeline, from, size));
  for await (const part of createReadStream(file, { end: end - from - 1 }) as AsyncIterable<Buffer>) sum.update(part);
  return sum.digest('hex');
}

/** Fetches what was added to the log since the point before, checks every record, and stores its segments beside those still needed. Throws SourceError. */
export class LogCapture {
  private readonly found: DatabaseCommit[] = [];
  private commits = 0;
  private read = 0;
  /** Segments of the point before. */
  private all = 0;

  constructor(
    private readonly ctx: CaptureContext,
    private readonly writing: PointWriting,
    private readonly server: DatabaseServer,
    private readonly start: LogStart | null,
  ) {}

  async run(): Promise<PointContent> {
    const c = await PgConnection.open(this.server, commonDatabase);
    try {
      await holdLog(c, this.server);
      return await this.capture(c, await placeNow(c));
    } finally {
      await c.close();
    }
  }

  private async capture(c: PgConnection, place: Place): Promise<PointContent> {
    const { ctx, server } = this;
    const before = ctx.base && stateOf(ctx.base);
    const relations = { ...before?.relations, ...(await relationsOf(server, c)) };
    const kept = ctx.base ? await this.kept(ctx.base, place.size) : [];
    let stretch = before?.stretch ?? 1;
    let from = before?.at ?? this.start?.at ?? place.end;
    let cause = whyNot(place, before);
    let tail: string | undefined;
    if (!cause)
      try {
        tail = await this.follow(c.address, place, { from, stretch, relations, before }, kept);
      } catch (error) {
        if (!(error instanceof LogGap)) throw error;
        cause = error.message;
      }
    if (cause) {
      // nothing is known between what was read last and what is written from now on
      if (before) stretch++;
      from = place.end;
      tail = await this.follow(c.address, place, { from, stretch, relations, before: undefined }, kept);
    }
    const known = before?.stretches[String(stretch)];
    const first = known?.from ?? from;
    const stretches = { ...before?.stretches, [stretch]: { timeline: place.timeline, from: first, to: place.end } };
    const state: LogState = {
      stretch,
      file: '',
      at: place.end,
      timeline: place.timeline,
      system: place.system,
      size: place.size,
      relations,
      ...(tail && { tail }),
      stretches,
    };
    const point = await logPoint(ctx, this.writing, this.start, {
      family: 'postgresql',
      top: await this.tree(kept),
      files: kept.length,
      read: this.read,
      stretch,
      begins: { file: logName(place.timeline), at: first },
      cause,
      nowMs: place.nowMs,
      notable: this.found,
      commits: this.commits,
      state,
    });
    // what the point before holds is stored for good
    if (before) await releaseLog(c, server, segmentStart(Math.min(before.at, place.end) - 1, place.size));
    return point;
  }

  /** Segments of before that a full still needs. */
  private async kept(base: Root, size: number): Promise<Segment[]> {
    const all = await segmentsOf(this.ctx.store, topEntry(base));
    const { start } = this;
    this.all = all.length;
    if (!start) return all;
    const { stretches } = stateOf(base);
    return all.filter(({ stretch, entry }) => {
      const known = stretches[String(stretch)];
      if (!known || Number(entry.mtimeNs / 1_000_000n) >= start.moment) return known !== undefined;
      return entry.name >= segmentName(known.timeline, start.at, size);
    });
  }

  /** Fetches segments from the one that holds `from`, and stores them in the place of what is stored of them. Throws LogGap where the server has them no more. */
  private async follow(
    address: string,
    place: Place,
    { from, stretch, relations, before }: Following,
    kept: Segment[],
  ): Promise<string | undefined> {
    const { size, timeline, end } = place;
    // what was read last is read again, however little it is
    const begin = segmentStart(before?.tail ? Math.min(from, before.at - 1) : from, size);
    if (from >= end) return before?.tail;
    const folder = ownFolder('log');
    try {
      await this.receive(address, folder, place, begin);
      if (before?.tail && (await tailOf(folder, timeline, size, before.at)) !== before.tail) throw new LogGap(setBackWords);
      const latest = new Map<string, number>();
      await readRecords(
        { folder, timeline, from, to: end, relations },
        (commit) => {
          this.commits++;
          latest.set(segmentName(timeline, commit.position, size), commit.at);
          if (isNotable(commit) && !commit.tables.every((t) => t.table.includes(temporaryName))) this.found.push(commit);
        },
        this.ctx.stopped,
      );
      for (const name of readdirSync(folder).sort()) {
        const known = kept.findIndex((s) => s.stretch === stretch && s.entry.name === name);
        const earlier = known < 0 ? undefined : kept[known];
        const at = latest.get(name) ?? (earlier ? Number(earlier.entry.mtimeNs / 1_000_000n) : place.nowMs);
        const segment = { stretch, entry: await this.store(folder, name, at) };
        if (known < 0) kept.push(segment);
        else kept[known] = segment;
      }
      return await tailOf(folder, timeline, size, end);
    } finally {
      rmSync(folder, { recursive: true, force: true });
    }
  }

  private async receive(address: string, folder: string, { size, timeline, end }: Place, begin: number): Promise<void> {
    // the program begins with a segment that it finds begun
    writeFileSync(path.join(folder, `${segmentName(timeline, begin, size)}.partial`), '', { flag: 'wx', mode: 0o600 });
    const args = [`--directory=${folder}`, `--endpos=${placeText(end - 1)}`, '--no-loop', '--no-sync'];
    const program = startProgram('pg_receivewal', this.server, address, commonDatabase, args);
    const watch = setInterval(() => {
      if (this.ctx.stopped()) program.kill();
    }, stoppedEveryMs);
    try {
      await program.end();
    } catch (error) {
      if (this.ctx.stopped()) throw new EngineError('STOPPED');
      if (error instanceof SourceError && noLogThere.test(error.message))
        throw new LogGap(`the log of the server is not there any more from ${placeText(begin)} on: it was removed before it was read`);
      throw error;
    } finally {
      clearInterval(watch);
    }
    for (const name of readdirSync(folder))
      if (name.endsWith('.partial')) renameSync(path.join(folder, name), path.join(folder, name.slice(0, 24)));
  }

  private async store(folder: string, name: string, at: number): Promise<TreeEntry> {
    const stream = new StreamContent(this.writing.pool, this.writing.put);
    const handle = await open(path.join(folder, name));
    try {
      for (;;) {
        const buffer = Buffer.allocUnsafe(readBytes);
        const { bytesRead } = await handle.read(buffer, 0, buffer.length);
        if (bytesRead === 0) break;
        if (this.ctx.stopped()) throw new EngineError('STOPPED');
        await stream.write(buffer.subarray(0, bytesRead));
        this.read += bytesRead;
        await this.writing.drain();
      }
    } finally {
      await handle.close();
    }
    const { size, content } = await stream.finish();
    this.ctx.progress({ items: 1, files: 1, bytes: this.read, read: this.read }, this.writing.packed);
    return { ...plain(name, 'file', at), size, ...(content && { content }) };
  }

  private async tree(segments: readonly Segment[]): Promise<TreeEntry> {
    const { put } = this.writing;
    const { base } = this.ctx;
    if (base && this.read === 0 && segments.length === this.all) return topEntry(base);
    const at = this.ctx.now();
    const folderOf = (name: string, entries: TreeEntry[]): TreeEntry => ({
      ...plain(name, 'folder', at),
      folder: writeFolder(put, entries.sort(byName)),
    });
    const stretches = new Map<number, TreeEntry[]>();
    for (const { stretch, entry } of segments) stretches.set(stretch, [...(stretches.get(stretch) ?? []), entry]);
    const log = folderOf(
      logFolder,
      [...stretches].map(([stretch, entries]) => folderOf(String(stretch).padStart(4, '0'), entries)),
    );
    await this.writing.drain();
    return folderOf('', [log]);
  }
}

function plain(name: string, kind: 'file' | 'folder', atMs: number): TreeEntry {
  const mtimeNs = BigInt(Math.round(atMs)) * 1_000_000n;
  return { name, kind, mode: kind === 'file' ? 0o600 : 0o700, uid: 0, gid: 0, mtimeNs, ctimeNs: 0n, inode: 0, size: 0 };
}

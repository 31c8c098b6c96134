import { escapePath, itemNameOf, joinPath, pathFilter, type PathFilter } from '@lithodex/core';
import { byName, EngineError, StreamContent, topEntry, writeFolder, type StreamStored, type TreeEntry } from '@lithodex/engine';
import { accountsItem, filesItem, type DatabaseFrom, type DatabasePoint, type DatabaseServer } from '@lithodex/kinds';
import type { CaptureContext, PointContent } from '../connector';
import type { PointWriting } from '../capture-store';
import { isSourceError, SourceError } from '../source-error';
import { familyOf } from './families';
import type { DatabaseRead, Reading, RowsTake } from './family';
import { memberToRead, nameOf } from './members';
import { takenOver } from './taken-over';
import { afterRowsItem, beforeRowsItem, databaseItem, objectPath } from './object-paths';

/** New chunks that are made room for. */
const expectedChunks = 262_144;
/** Reading begins anew where what there is changes while it is read. */
const mostAttempts = 4;
const mode = 0o600;

/** Items of one folder, by name. */
type Files = Map<string, StreamStored>;

/** Takes all databases of a server as text, one file an object, all rows at one instant. Throws SourceError. */
export function captureDatabase(ctx: CaptureContext, { server }: DatabaseFrom): Promise<PointContent> {
  const writing = ctx.store.begin(expectedChunks, ctx.fresh);
  return writing.during(async () => {
    if (ctx.kind === 'log') return familyOf(server.family).captureLog(ctx, writing, server, ctx.logStart);
    const { replica, said } = await memberToRead(server);
    if (said) ctx.note({ code: 'MEMBER', path: '', message: said });
    for (let attempt = 1; ; attempt++)
      try {
        return await captureOnce(ctx, writing, server, replica);
      } catch (error) {
        // somebody makes or drops tables just now: a restore beside it, or what works there every night
        if (attempt === mostAttempts || !isSourceError(error, 'DATABASE_CHANGED')) throw error;
        ctx.note({ code: 'BEGUN_AGAIN', path: '', message: `read from the beginning: ${(error as Error).message}` });
      }
  });
}

async function captureOnce(
  ctx: CaptureContext,
  writing: PointWriting,
  server: DatabaseServer,
  replica: DatabaseServer | undefined,
): Promise<PointContent> {
  const reading = await familyOf(server.family).read(server, replica);
  try {
    return await new DatabaseCapture(ctx, writing, reading, server, replica ? nameOf(replica) : null).run(server.family);
  } finally {
    await reading.close();
  }
}

class DatabaseCapture {
  private readonly at: bigint;
  private readonly filter: PathFilter;
  private warnings = 0;
  private readonly progress = { items: 0, bytes: 0, read: 0, files: 0 };

  constructor(
    private readonly ctx: CaptureContext,
    private readonly writing: PointWriting,
    private readonly reading: Reading,
    private readonly server: DatabaseServer,
    private readonly member: string | null,
  ) {
    this.at = BigInt(ctx.now()) * 1_000_000n;
    this.filter = pathFilter(ctx.include, ctx.exclude);
  }

  async run(family: DatabasePoint['family']): Promise<PointContent> {
    const { ctx, reading, filter } = this;
    const names = reading.names.filter((name) => !filter.leftOut(itemNameOf(name), true));
    const databases: DatabaseRead[] = [];
    for (const name of names) {
      const there = await this.readDatabase(name);
      if (there) databases.push(there);
    }
    const files = new Map<string, Files>(databases.map((d) => [d.name, new Map<string, StreamStored>()]));
    const rowsAt = await this.rows(databases, files);
    for (const d of databases) await this.texts(d, files.get(d.name)!);
    const altered = await this.lookAgain(databases);
    for (const { name, leftOut } of databases) if (leftOut) this.warn('LEFT_OUT', escapePath(itemNameOf(name)), leftOut, true);
    const accounts = await reading.accounts();
    if (!accounts) this.warn('ACCOUNTS_UNREAD', '', 'the accounts of the server could not be read: the account may not see them', true);
    const archive: Files = new Map();
    const taken = ctx.logged && reading.files ? await this.files(reading.files.bind(reading), archive) : undefined;
    const position = taken?.position ?? rowsAt;
    const top = await this.tree(databases, files, accounts, archive);
    const counts = await this.writing.finish();
    const unversioned = databases.flatMap((d) => d.tables.filter((t) => t.unversioned).map((t) => `${d.name}.${t.name}`));
    for (const name of unversioned)
      this.warn('NOT_ONE_INSTANT', name, 'its storage keeps no versions of rows, so it may have changed while it was read', false);
    const facts: DatabasePoint = {
      kind: 'database',
      family,
      version: reading.version,
      level: unversioned.length ? 'mixed' : 'application',
      position,
      databases: databases.map((d) => ({ name: d.name, tables: d.tables.length, ...countsOf(d) })),
      member: this.member,
    };
    return {
      top,
      totals: {
        items: top.folder?.items ?? 0,
        files: this.progress.files,
        bytes: top.folder?.bytes ?? 0,
        read: this.progress.read,
        ...counts,
      },
      owners: {},
      groups: {},
      leftOut: { include: ctx.include, exclude: ctx.exclude, byItself: [] },
      warnings: this.warnings,
      content: { kind: 'database', version: 1, facts, state: { ...taken?.state, ...(altered.length && { altered }) } },
    };
  }

  /** What a database holds; undefined where it was dropped since it was listed. */
  private async readDatabase(name: string): Promise<DatabaseRead | undefined> {
    try {
      return await this.reading.database(name);
    } catch (error) {
      if (isSourceError(error, 'DATABASE_GONE')) return undefined;
      throw error;
    }
  }

  private warn(code: string, path: string, message: string, missing: boolean): void {
    this.warnings++;
    this.ctx.warn({ code, path, message, missing });
  }

  private async rows(databases: readonly DatabaseRead[], files: ReadonlyMap<string, Files>): Promise<DatabasePoint['position']> {
    const tables = new Map(databases.map((d) => [d.name, new Map(d.tables.map((t) => [t.name, t]))]));
    let open: { files: Files; path: string; stream: StreamContent } | undefined;
    const ending: Promise<void>[] = [];
    const close = () => {
      if (!open) return;
      const { files: into, path, stream } = open;
      open = undefined;
      const ended = this.finish(into, path, stream);
      // told where it is waited for
      ended.catch(() => undefined);
      ending.push(ended);
    };
    let position: DatabasePoint['position'] = null;
    const take: RowsTake = {
      fixed: async (at) => {
        position = at;
        await this.takeOver(databases, files, at);
      },
      wants: (database, name) => {
        const path = objectPath('table', name);
        return !this.leftOut(database, path) && !files.get(database)!.has(path);
      },
      sink: (database, name) => {
        close();
        const path = objectPath('table', name);
        const table = tables.get(database)!.get(name)!;
        const stream = new StreamContent(this.writing.pool, this.writing.put);
        open = { files: files.get(database)!, path, stream };
        let begun: Promise<void> | undefined = stream.write(Buffer.from(table.head));
        const { ctx, writing, progress } = this;
        return {
          get open() {
            return stream.open;
          },
          async write(data) {
            if (begun) await begun;
            begun = undefined;
            await stream.write(data);
            progress.read += data.length;
            progress.bytes += data.length;
            await writing.drain();
            ctx.progress(progress, writing.packed);
          },
          endPiece: () => stream.endPiece(),
        };
      },
    };
    await this.reading.rows(databases, take, this.ctx.stopped);
    close();
    await Promise.all(ending);
    return position;
  }

  /** What did not change since the point this one builds on is not read. */
  private async takeOver(
    databases: readonly DatabaseRead[],
    files: ReadonlyMap<string, Files>,
    at: DatabasePoint['position'],
  ): Promise<void> {
    for (const [database, own] of await takenOver(this.ctx, this.server, this.reading.version, databases, at))
      for (const [path, stored] of own) {
        if (this.leftOut(database, path)) continue;
        files.get(database)!.set(path, stored);
        this.progress.items++;
        this.progress.files++;
        this.progress.bytes += stored.size;
      }
  }

  /** The files of the server, where its log needs them. What keeps them from being read is said: points can be restored all the same. */
  private async files(read: NonNullable<Reading['files']>, into: Files): Promise<Awaited<ReturnType<typeof read>> | undefined> {
    const stream = new StreamContent(this.writing.pool, this.writing.put);
    const { ctx, writing, progress } = this;
    try {
      const taken = await read(async (data) => {
        await stream.write(data);
        progress.read += data.length;
        progress.bytes += data.length;
        await writing.drain();
        ctx.progress(progress, writing.packed);
      }, ctx.stopped);
      await this.finish(into, filesItem, stream);
      return taken;
    } catch (error) {
      if (!(error instanceof SourceError)) throw error;
      this.warn('FILES_UNREAD', '', `no second can be reached from here: ${error.message}`, true);
      return undefined;
    }
  }

  private leftOut(database: string, path: string): boolean {
    return this.filter.leftOut(joinPath(itemNameOf(database), path), false);
  }

  private async finish(into: Files, path: string, stream: StreamContent): Promise<void> {
    into.set(path, await stream.finish());
    this.progress.items++;
    this.progress.files++;
    this.ctx.progress(this.progress, this.writing.packed);
  }

  /** Stores a short text. */
  private async text(into: Files, path: string, text: string): Promise<void> {
    if (this.ctx.stopped()) throw new EngineError('STOPPED');
    const stream = new StreamContent(this.writing.pool, this.writing.put);
    const data = Buffer.from(text);
    await stream.write(data);
    this.progress.read += data.length;
    await this.finish(into, path, stream);
  }

  /** Tables without rows, and everything that is no table. */
  private async texts(d: DatabaseRead, into: Files): Promise<void> {
    await this.text(into, databaseItem, d.text);
    if (d.around) {
      await this.text(into, beforeRowsItem, d.around.before);
      await this.text(into, afterRowsItem, d.around.after);
    }
    for (const t of d.tables) {
      const path = objectPath('table', t.name);
      if (!into.has(path) && !this.leftOut(d.name, path)) await this.text(into, path, t.head);
    }
    for (const o of d.others) {
      const path = objectPath(o.type, o.name);
      if (!this.leftOut(d.name, path)) await this.text(into, path, o.text);
    }
  }

  /** What was made, altered or dropped while everything was read is said. Gives where. */
  private async lookAgain(databases: readonly DatabaseRead[]): Promise<string[]> {
    const changed: string[] = [];
    for (const before of databases) {
      const now = await this.readDatabase(before.name);
      const [then, there] = [before, now ?? { tables: [], others: [] }].map(
        (d) =>
          new Map([
            ...d.tables.map((t) => [objectPath('table', t.name), headOf(t.head)] as const),
            ...d.others.map((o) => [objectPath(o.type, o.name), o.type === 'sequence' ? '' : o.text] as const),
          ]),
      ) as [Map<string, string>, Map<string, string>];
      for (const path of new Set([...then.keys(), ...there.keys()])) {
        const what = !then.has(path) ? 'made' : !there.has(path) ? 'dropped' : then.get(path) !== there.get(path) ? 'altered' : '';
        if (!what) continue;
        const at = joinPath(itemNameOf(before.name), path);
        changed.push(at);
        this.warn('CHANGED_WHILE_READ', escapePath(at), `it was ${what} while the server was read`, what === 'made');
      }
    }
    return changed;
  }

  private async tree(
    databases: readonly DatabaseRead[],
    files: ReadonlyMap<string, Files>,
    accounts: string,
    archive: Files,
  ): Promise<TreeEntry> {
    const base = this.ctx.base ?? this.ctx.reread;
    const earlier = base && topEntry(base);
    const top: TreeEntry[] = [];
    for (const d of databases) {
      const name = itemNameOf(d.name);
      top.push(await this.folder(name, files.get(d.name)!, earlier && (await this.childOf(earlier, name))));
    }
    if (accounts) {
      const own: Files = new Map();
      await this.text(own, accountsItem, accounts);
      top.push(this.entry(accountsItem, own.get(accountsItem)!, earlier && (await this.childOf(earlier, accountsItem))));
    }
    for (const [name, stored] of archive) top.push(this.entry(name, stored, undefined));
    return this.folderEntry('', top);
  }

  private async childOf(folder: TreeEntry, name: string): Promise<TreeEntry | undefined> {
    if (!folder.folder) return undefined;
    return (await this.ctx.store.trees.folder(folder.folder.node)).find((e) => e.name === name);
  }

  private async folder(name: string, files: Files, earlier: TreeEntry | undefined): Promise<TreeEntry> {
    const below = new Map<string, Files>();
    const entries: TreeEntry[] = [];
    const known = new Map((earlier?.folder ? await this.ctx.store.trees.folder(earlier.folder.node) : []).map((e) => [e.name, e]));
    for (const [path, stored] of files) {
      const slash = path.indexOf('/');
      if (slash < 0) entries.push(this.entry(path, stored, known.get(path)));
      else {
        const folder = path.slice(0, slash);
        below.set(folder, (below.get(folder) ?? new Map<string, StreamStored>()).set(path.slice(slash + 1), stored));
      }
    }
    for (const [folder, own] of below) entries.push(await this.folder(folder, own, known.get(folder)));
    return this.folderEntry(name, entries);
  }

  private async folderEntry(name: string, entries: TreeEntry[]): Promise<TreeEntry> {
    const folder = writeFolder(this.writing.put, entries.sort(byName));
    await this.writing.drain();
    return { ...this.plain(name, 'folder'), folder };
  }

  private plain(name: string, kind: 'file' | 'folder'): TreeEntry {
    return { name, kind, mode: kind === 'file' ? mode : 0o700, uid: 0, gid: 0, mtimeNs: this.at, ctimeNs: 0n, inode: 0, size: 0 };
  }

  /** What holds the same bytes as at the point before keeps the time of then. */
  private entry(name: string, { size, content, random }: StreamStored, earlier: TreeEntry | undefined): TreeEntry {
    const same = earlier?.size === size && sameContent(earlier.content, content);
    return {
      ...this.plain(name, 'file'),
      size,
      ...(content && { content }),
      ...(random && { random }),
      ...(same && { mtimeNs: earlier.mtimeNs }),
    };
  }
}

/** How to make a table, without the number that the next row gets. */
const headOf = (head: string) => head.replace(/ AUTO_INCREMENT=\d+/, '');

function sameContent(a: TreeEntry['content'], b: TreeEntry['content']): boolean {
  if (!a || !b) return a === b;
  if ('lists' in a || 'lists' in b) return 'lists' in a && 'lists' in b && a.count === b.count && a.lists.equals(b.lists);
  return a.names.equals(b.names);
}

function countsOf(d: DatabaseRead): { views: number; routines: number; triggers: number; events: number } {
  const count = (type: string) => d.others.filter((o) => o.type === type).length;
  return { views: count('view'), routines: count('routine'), triggers: count('trigger'), events: count('event') };
}

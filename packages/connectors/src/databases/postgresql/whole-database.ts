import { EngineError } from '@lithodex/engine';
import type { DatabaseServer } from '@lithodex/kinds';
import { SourceError } from '../../source-error';
import type { BringBackHooks, DatabaseBack, TableBack } from '../family';
import { temporaryName } from '../temporary-name';
import { PgConnection } from './connection';
import { entriesOf, quoted, quotedText } from './dump-text';
import { EntryRunner } from './run-entries';
import { TableText } from './table-text';

const nameOfDatabase = /^(CREATE|ALTER) DATABASE ("(?:[^"]|"")*"|[^\s"]+)/gm;
/** Statements about the database as a whole, under another name. */
const withName = (text: string, name: string) => text.replace(nameOfDatabase, (_, verb: string) => `${verb} DATABASE ${quoted(name)}`);

/** Names of databases that an attempt makes begin so. */
export const temporaryPrefix = (taskId: string): string => `${temporaryName}${taskId.replace(/[^0-9a-f]/g, '').slice(0, 12)}_`;

/** Makes an empty database as another was. */
export async function makeDatabase(
  c: PgConnection,
  d: Pick<DatabaseBack, 'text'>,
  name: string,
  note: (message: string) => void,
): Promise<void> {
  const runner = new EntryRunner(c, note, false);
  const entries = entriesOf((await d.text?.()) ?? '');
  const first = entries.find((e) => e.type === 'DATABASE');
  if (!first) await c.run(`CREATE DATABASE ${quoted(name)} TEMPLATE template0`);
  for (const entry of entries) {
    if (entry.type !== 'DATABASE' && entry.type !== 'DATABASE PROPERTIES') continue;
    // how it is to be made must not be one transaction with who owns it
    await runner.make({ ...entry, text: withName(entry.text, name) }, 'strict');
  }
}

/** Puts rows into a table that is there. Gives their number, and what follows them in its text. Throws ROWS_DIFFER when the server took another number. */
export async function fill(
  c: PgConnection,
  text: TableText,
  table: TableBack,
  statement: string,
  hooks: BringBackHooks,
): Promise<{ count: number; bytes: number; tail: string }> {
  let bytes = 0;
  let read = { count: 0, tail: '' };
  const taken = await c.copyIn(statement, async (to) => {
    read = await text.rows(async (data) => {
      if (hooks.stopped()) throw new EngineError('STOPPED');
      await to(Buffer.from(data));
      bytes += data.length;
      hooks.moved(data.length);
    });
  });
  if (taken !== read.count) throw new SourceError('ROWS_DIFFER', `${table.name}: ${taken} instead of ${read.count}`);
  return { ...read, bytes };
}

/** A database that is loaded under a temporary name: nothing of what is there was touched. */
export class WholeDatabase {
  private inside: PgConnection | undefined;
  private readonly loaded: { table: TableBack; bytes: number }[] = [];

  constructor(
    private readonly server: DatabaseServer,
    private readonly c: PgConnection,
    private readonly d: DatabaseBack,
    private readonly temporary: string,
    private readonly final: string,
    private readonly hooks: BringBackHooks,
  ) {}

  /** Throws SourceError. */
  async load(): Promise<void> {
    const { c, d, hooks, temporary } = this;
    await makeDatabase(c, d, temporary, hooks.note);
    const inside = await PgConnection.open(this.server, temporary);
    this.inside = inside;
    try {
      const runner = new EntryRunner(inside, hooks.note, false);
      // every database has the usual schema
      for (const entry of entriesOf(await d.around!.before()))
        await runner.make(entry, entry.type === 'SCHEMA' || entry.type === 'EXTENSION' ? 'duplicates stay' : 'strict');
      for (const table of d.tables) {
        const text = await TableText.open(table.name, table.text());
        const bytes = text.copy === undefined ? 0 : (await fill(inside, text, table, text.copy, hooks)).bytes;
        this.loaded.push({ table, bytes });
      }
      for (const entry of entriesOf(await d.around!.after())) {
        if (hooks.stopped()) throw new EngineError('STOPPED');
        await runner.make(entry, 'strict');
      }
      await inside.run('ANALYZE');
    } finally {
      await inside.close();
    }
  }

  /** The process of the server that works for it. */
  get process(): number | null {
    return this.inside?.process ?? null;
  }

  async putInPlace(replaces: boolean): Promise<void> {
    const { c, temporary, final, hooks, d } = this;
    if (!replaces) await c.run(`ALTER DATABASE ${quoted(temporary)} RENAME TO ${quoted(final)}`);
    else await this.swap();
    const action = replaces ? 'replace' : final === d.to ? 'write' : 'beside';
    const remark = action === 'beside' ? `in the database ${final}` : '';
    for (const { table, bytes } of this.loaded) hooks.done({ path: table.path, action, bytes, remark });
    for (const o of d.others) hooks.done({ path: o.path, action, bytes: 0, remark });
  }

  /** Whoever works in the database is sent away: a name is not given to another one while it is used. */
  private async swap(): Promise<void> {
    const { c, temporary, final } = this;
    const old = `${temporary}_old`;
    await c.run(`ALTER DATABASE ${quoted(final)} ALLOW_CONNECTIONS false`);
    try {
      await c.run(`SELECT pg_terminate_backend(pid, 10000) FROM pg_stat_activity WHERE datname = ${quotedText(final)}`);
      await c.run(
        `BEGIN; ALTER DATABASE ${quoted(final)} RENAME TO ${quoted(old)}; ALTER DATABASE ${quoted(temporary)} RENAME TO ${quoted(final)}; COMMIT`,
      );
    } catch (error) {
      await c.run('ROLLBACK');
      await c.run(`ALTER DATABASE ${quoted(final)} ALLOW_CONNECTIONS true`);
      throw error;
    }
    await c.run(`DROP DATABASE ${quoted(old)}`);
  }

  /** Takes away what was loaded. */
  async undo(): Promise<void> {
    await this.c.run(`DROP DATABASE IF EXISTS ${quoted(this.temporary)} WITH (FORCE)`);
  }
}

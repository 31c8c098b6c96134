import { formatFirst } from '@lithodex/core';
import { EngineError } from '@lithodex/engine';
import type { DatabaseServer } from '@lithodex/kinds';
import { SourceError } from '../../source-error';
import type { BringBackHooks, BringBackRule, DatabaseBack, TableBack } from '../family';
import { startProgram } from './mariadb-program';
import { quoted, quotedText, withMariadb, type MariadbConnection } from './connection';
import { orphansOf, planKeys, type PlannedKeys } from './foreign-keys';
import { makeOthers } from './make-others';
import { TableText } from './table-text';
import { temporaryName } from '../temporary-name';

export const clientProgram = 'mariadb';
export const clientOptions = ['--batch', '--default-character-set=utf8mb4', '--max-allowed-packet=1G', '--local-infile=0'];
/** The first line that a client program reads: from then on it runs no commands of its own and opens no files. */
export const sandbox = '/*M!999999\\- enable the sandbox mode */\n';
const settings =
  "SET NAMES utf8mb4;\nSET TIME_ZONE = '+00:00', FOREIGN_KEY_CHECKS = 0, UNIQUE_CHECKS = 0, SQL_MODE = 'NO_AUTO_VALUE_ON_ZERO', AUTOCOMMIT = 0;\n";
const longestName = 64;

/** A table that has been loaded under a temporary name. */
export interface Loaded {
  readonly database: string;
  readonly temporary: string;
  readonly final: string;
  readonly table: TableBack;
  readonly keys: PlannedKeys;
  readonly bytes: number;
}

/**
 * Loads tables under temporary names, compares their rows with what was stored, and puts them in place only when all are whole; views, routines, triggers and events follow. What an
 * interrupted attempt of the same task left is removed first. Throws SourceError.
 */
export function bringBack(
  server: DatabaseServer,
  databases: readonly DatabaseBack[],
  rule: BringBackRule,
  hooks: BringBackHooks,
): Promise<void> {
  return withMariadb(server, (c) => new BringBack(server, c, rule, hooks).run(databases));
}

class BringBack {
  private readonly prefix: string;
  private readonly loaded: Loaded[] = [];
  private readonly made: string[] = [];
  private readonly touched = new Set<string>();

  constructor(
    private readonly server: DatabaseServer,
    private readonly c: MariadbConnection,
    private readonly rule: BringBackRule,
    private readonly hooks: BringBackHooks,
  ) {
    this.prefix = `${temporaryName}${hooks.taskId.replace(/[^0-9a-f]/g, '').slice(0, 12)}_`;
  }

  async run(databases: readonly DatabaseBack[]): Promise<void> {
    const { hooks } = this;
    for (const d of databases) await this.check(d);
    let replaced: Set<string>;
    try {
      for (const d of databases) await this.prepare(d);
      hooks.phase('loading');
      for (const d of databases) for (const t of await this.wanted(d)) await this.load(d.to, t);
      if (hooks.stopped()) throw new EngineError('STOPPED');
      hooks.phase('putting in place');
      replaced = await this.swap();
    } catch (error) {
      await this.tidy();
      throw error;
    }
    for (const l of this.loaded) {
      const remark = await this.addKeys(l);
      const name = `${l.database}.${l.final}`;
      const action = l.final !== l.table.name ? 'beside' : replaced.has(name) ? 'replace' : 'write';
      hooks.done({ path: l.table.path, action, bytes: l.bytes, remark: action === 'beside' ? name : remark });
    }
    for (const d of databases) await makeOthers(this.c, d, this.rule, hooks);
    await this.sayOrphans();
    await hooks.drain();
  }

  private finalName(name: string): string {
    return this.rule.exists === 'beside' ? name + this.rule.suffix : name;
  }

  private objectsIn(database: string): Promise<{ name: string; type: string }[]> {
    const sql = 'SELECT table_name AS name, table_type AS type FROM information_schema.tables WHERE table_schema = ?';
    return this.c.rows<{ name: string; type: string }>(sql, [database]);
  }

  private async namesIn(database: string): Promise<string[]> {
    return (await this.objectsIn(database)).map((o) => o.name);
  }

  /** Nothing is begun that can't be ended. */
  private async check(d: DatabaseBack): Promise<void> {
    const finals = d.tables.map((t) => this.finalName(t.name));
    const long = finals.find((name) => name.length > longestName);
    if (long) throw new SourceError('NAME_TOO_LONG', long);
    if (this.rule.exists === 'leave') return;
    const objects = await this.objectsIn(d.to);
    // a table takes the place of a table only
    const inTheWay = this.rule.exists === 'replace' ? objects.filter((o) => o.type === 'VIEW') : objects;
    const there = new Set(inTheWay.map((o) => o.name.toLowerCase()));
    const taken = finals.filter((name) => there.has(name.toLowerCase())).map((name) => `${d.to}.${name}`);
    if (taken.length) throw new SourceError('EXISTS_THERE', formatFirst(taken, 5));
  }

  /** The tables that are loaded: what is there is left where the rule says so. */
  private async wanted(d: DatabaseBack): Promise<readonly TableBack[]> {
    if (this.rule.exists !== 'leave') return d.tables;
    const there = new Set((await this.namesIn(d.to)).map((n) => n.toLowerCase()));
    const left = d.tables.filter((t) => there.has(t.name.toLowerCase()));
    for (const t of left) this.hooks.done({ path: t.path, action: 'leave', bytes: 0, remark: '' });
    return d.tables.filter((t) => !left.includes(t));
  }

  private async prepare(d: DatabaseBack): Promise<void> {
    const there = await this.c.row('SELECT 1 FROM information_schema.schemata WHERE schema_name = ?', [d.to]);
    if (!there) {
      const text = (await d.text?.())?.trim().replace(/;$/, '') ?? '';
      const how = /^CREATE DATABASE `(?:[^`]|``)+`(.*)$/s.exec(text)?.[1] ?? '';
      await this.c.run(`CREATE DATABASE ${quoted(d.to)}${how}`);
      this.made.push(d.to);
      this.hooks.note(`the database ${d.to} was made`);
    }
    this.touched.add(d.to);
    await this.c.run('SET FOREIGN_KEY_CHECKS = 0');
    await this.dropTemporary(d.to);
  }

  private async dropTemporary(database: string): Promise<void> {
    for (const name of await this.namesIn(database))
      if (name.startsWith(this.prefix)) await this.c.run(`DROP TABLE ${quoted(database)}.${quoted(name)}`);
  }

  private async load(database: string, table: TableBack): Promise<void> {
    const { c, server, hooks } = this;
    const text = await TableText.open(table.name, table.text());
    const temporary = `${this.prefix}${this.loaded.length}`;
    const final = this.finalName(table.name);
    const keys = await planKeys(c, database, text.table, (await this.namesIn(database)).includes(final));
    const program = startProgram(clientProgram, server, c.address, [...clientOptions, database]);
    const rows = { count: 0 };
    let bytes = 0;
    try {
      await program.write(sandbox + settings);
      await program.write(`${text.table.make(quoted(temporary), keys.inside)};\n`);
      for await (const piece of text.filling(temporary, rows)) {
        if (hooks.stopped()) throw new EngineError('STOPPED');
        if (program.closed) break;
        await program.write(piece);
        bytes += piece.length;
        hooks.moved(piece.length);
      }
      await program.write('\nCOMMIT;\n');
      await program.end();
    } catch (error) {
      program.kill();
      throw error;
    }
    this.loaded.push({ database, temporary, final, table, keys, bytes });
    const { n } = (await c.row<{ n: number | string }>(`SELECT COUNT(*) AS n FROM ${quoted(database)}.${quoted(temporary)}`))!;
    if (Number(n) !== rows.count) throw new SourceError('ROWS_DIFFER', `${table.name}: ${n} instead of ${rows.count}`);
  }

  /** Puts everything in place in one statement; what is replaced goes with it. Returns what was replaced. */
  private async swap(): Promise<Set<string>> {
    const replaced = new Set<string>();
    const moves: string[] = [];
    const old: string[] = [];
    for (const [i, l] of this.loaded.entries()) {
      const final = `${quoted(l.database)}.${quoted(l.final)}`;
      const sql = 'SELECT 1 FROM information_schema.tables WHERE table_schema = ? AND table_name = ?';
      if (await this.c.row(sql, [l.database, l.final])) {
        replaced.add(`${l.database}.${l.final}`);
        // the keys of other tables follow a table that is renamed, but not one that is dropped
        if (await this.isReferenced(l)) await this.c.run(`DROP TABLE ${final}`);
        else {
          const aside = `${quoted(l.database)}.${quoted(`${this.prefix}old_${i}`)}`;
          moves.push(`${final} TO ${aside}`);
          old.push(aside);
        }
      }
      moves.push(`${quoted(l.database)}.${quoted(l.temporary)} TO ${final}`);
    }
    if (moves.length) await this.c.run(`RENAME TABLE ${moves.join(', ')}`);
    for (const aside of old) await this.c.run(`DROP TABLE ${aside}`);
    return replaced;
  }

  private async isReferenced({ database, final }: Loaded): Promise<boolean> {
    const row = await this.c.row(
      'SELECT 1 FROM information_schema.key_column_usage WHERE referenced_table_schema = ? AND referenced_table_name = ? AND NOT (table_schema = ? AND table_name = ?) LIMIT 1',
      [database, final, database, final],
    );
    return row !== undefined;
  }

  private async addKeys({ database, final, keys, table }: Loaded): Promise<string> {
    const refused: string[] = keys.renamed && final === table.name ? ['keys to other tables got other names'] : [];
    for (const key of keys.after) {
      try {
        await this.c.run(`ALTER TABLE ${quoted(database)}.${quoted(final)} ADD ${key}`);
      } catch (error) {
        if (!(error instanceof SourceError)) throw error;
        refused.push(`a key to another table could not be made: ${error.message}`);
      }
    }
    return refused.join('; ').slice(0, 1000);
  }

  private async sayOrphans(): Promise<void> {
    for (const l of this.loaded)
      for (const { key, rows } of await orphansOf(this.c, l.database, l.final))
        this.hooks.note(`${rows} rows of ${l.database}.${l.final} refer to rows that are not there (${key})`);
  }

  /** Removes what was begun: as it was before. */
  private async tidy(): Promise<void> {
    try {
      for (const database of this.touched) await this.dropTemporary(database);
      for (const database of this.made)
        if ((await this.namesIn(database)).every((n) => n.startsWith(this.prefix))) await this.c.run(`DROP DATABASE ${quoted(database)}`);
    } catch {
      this.hooks.note(`what was begun could not be removed: tables whose names begin with ${quotedText(this.prefix)}`);
    }
  }
}

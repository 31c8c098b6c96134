import { EngineError } from '@lithodex/engine';
import { SourceError } from '../../source-error';
import type { BringBackHooks, BringBackRule, DatabaseBack, OtherBack, TableBack } from '../family';
import { temporaryPrefix, fill } from './whole-database';
import type { PgConnection } from './connection';
import { entriesOf, partsOf, quoted, renamed, renamedNumbers, type DumpEntry } from './dump-text';
import { addKeys, columnsOf, exists, removeTable, replaceRows, sqlName, type TableName } from './replace-table';
import { EntryRunner } from './run-entries';
import { TableText } from './table-text';

const longestName = 63;
/** What whole databases bring beside tables and what is restored by itself; all of it stays where it is there. */
const notAlone = new Set([
  'TABLE',
  'FOREIGN TABLE',
  'TABLE ATTACH',
  'SEQUENCE',
  'SEQUENCE OWNED BY',
  'SEQUENCE SET',
  'DEFAULT',
  'VIEW',
  'MATERIALIZED VIEW',
  'FUNCTION',
  'PROCEDURE',
  'AGGREGATE',
  'COMMENT',
  'ACL',
]);
/** What a table under another name does without: what others own, and what would attach it to others. */
const notBeside = new Set(['TABLE ATTACH', 'INDEX ATTACH', 'TRIGGER', 'ACL', 'STATISTICS', 'RULE']);

interface Outcome {
  readonly path: string;
  readonly action: 'write' | 'replace' | 'beside' | 'leave';
  readonly bytes: number;
  readonly remark: string;
}

/** Tables and others of a database that is there, brought back in one transaction: all of it or nothing. */
export class InTransaction {
  private readonly runner: EntryRunner;
  private readonly done: Outcome[] = [];
  /** Why what could not be made is not there, by path. */
  private readonly refused = new Map<string, string>();
  private made = 0;

  constructor(
    private readonly c: PgConnection,
    private readonly d: DatabaseBack,
    private readonly rule: BringBackRule,
    private readonly hooks: BringBackHooks,
  ) {
    this.runner = new EntryRunner(c, hooks.note, true);
  }

  /** Throws SourceError. */
  async load(): Promise<void> {
    const { c, d, hooks } = this;
    await c.run('BEGIN');
    let waiting = await this.early();
    for (const table of d.tables) {
      if (hooks.stopped()) throw new EngineError('STOPPED');
      await this.table(table);
    }
    while (waiting.length) {
      const left: OtherBack[] = [];
      for (const other of waiting) if (!(await this.other(other))) left.push(other);
      if (left.length === waiting.length) break;
      waiting = left;
    }
  }

  /** What tables may need: types of the database, and what can be made without them. Gives what could not be made yet. */
  private async early(): Promise<OtherBack[]> {
    const { d, hooks } = this;
    for (const entry of entriesOf((await d.around?.before()) ?? ''))
      if (!notAlone.has(entry.type)) await this.runner.make(entry, 'duplicates stay');
    if (this.rule.exists === 'beside' && d.others.length)
      for (const { path } of d.others) this.refused.set(path, 'only tables are put beside: this would take the place of what is there');
    if (this.rule.exists === 'beside') return [];
    const left: OtherBack[] = [];
    for (const other of d.others) {
      if (hooks.stopped()) throw new EngineError('STOPPED');
      if (other.type === 'view' || !(await this.other(other))) left.push(other);
    }
    return left;
  }

  /** Whether it was made, or stays. */
  private async other({ path, text, type }: OtherBack): Promise<boolean> {
    const entries = entriesOf(await text());
    const [own] = entries;
    if (!own) throw new SourceError('DUMP_UNREADABLE', path);
    const replaces = this.rule.exists === 'replace';
    await this.c.run('SAVEPOINT other');
    try {
      const instead = type === 'routine' ? own.text.replace(/^CREATE (?!OR REPLACE )/m, 'CREATE OR REPLACE ') : own.text;
      if (replaces && type === 'view') await this.c.run(`DROP ${own.type} IF EXISTS ${sqlName(own)}`);
      const there = await this.runner.make(replaces ? { ...own, text: instead } : own, 'duplicates stay');
      if (!there || replaces)
        for (const e of entries.slice(1)) if (!there || e.type === 'SEQUENCE SET') await this.runner.make(e, 'duplicates stay');
      await this.c.run('RELEASE SAVEPOINT other');
      this.refused.delete(path);
      this.done.push({ path, action: there && !replaces ? 'leave' : replaces ? 'replace' : 'write', bytes: 0, remark: '' });
      return true;
    } catch (error) {
      if (!(error instanceof SourceError) || error.code === 'DATABASE_AWAY') throw error;
      await this.c.run('ROLLBACK TO SAVEPOINT other');
      this.refused.set(path, error.message);
      return false;
    }
  }

  private async table(table: TableBack): Promise<void> {
    const { c, rule, hooks } = this;
    const at = partsOf(table.name);
    if (!at) throw new SourceError('DUMP_UNREADABLE', table.path);
    const final = { schema: at.schema, name: rule.exists === 'beside' ? at.name + rule.suffix : at.name };
    const isThere = await exists(c, final);
    if (isThere && rule.exists === 'leave') {
      this.done.push({ path: table.path, action: 'leave', bytes: 0, remark: '' });
      return;
    }
    await this.runner.attempt(`CREATE SCHEMA IF NOT EXISTS ${quoted(at.schema)}`);
    const own = { path: table.path, remark: rule.exists === 'beside' ? `${final.schema}.${final.name}` : '' };
    if (isThere) {
      this.done.push({ ...own, action: 'replace', bytes: await this.replace(table, at) });
      return;
    }
    const bytes = await this.make(table, at, final, hooks);
    this.done.push({ ...own, action: rule.exists === 'beside' ? 'beside' : 'write', bytes });
  }

  /** Makes a table and fills it. Gives the bytes of its rows. */
  private async make(table: TableBack, at: TableName, as: TableName, hooks: BringBackHooks): Promise<number> {
    const text = await TableText.open(table.name, table.text());
    const change = this.changeOf(entriesOf(text.head), at, as);
    for (const entry of entriesOf(text.head)) await this.entry(entry, change, at, as);
    // what holds no rows of its own has all it is in there
    if (text.copy === undefined) return 0;
    const { bytes, tail } = await fill(this.c, text, table, change(text.copy), hooks);
    for (const entry of entriesOf(tail)) await this.entry(entry, change, at, as);
    return bytes;
  }

  private async entry(entry: DumpEntry, change: (text: string) => string, at: TableName, as: TableName): Promise<void> {
    const beside = at.name !== as.name;
    if (beside && (notBeside.has(entry.type) || (entry.type === 'COMMENT' && !/^(TABLE|COLUMN) /.test(entry.name)))) return;
    // a sequence that is there goes on where it stands
    const stays = entry.type === 'SEQUENCE' || entry.type === 'SEQUENCE OWNED BY';
    const why = await this.runner.make({ ...entry, text: change(entry.text) }, stays ? 'duplicates stay' : 'strict');
    if (why && entry.type === 'SEQUENCE')
      this.hooks.note(`the sequence ${entry.schema}.${entry.name} is there already and goes on where it stands`);
  }

  /** How statements of the table are changed for another name. */
  private changeOf(head: readonly DumpEntry[], at: TableName, as: TableName): (text: string) => string {
    if (at.name === as.name) return (text) => text;
    const behind = as.name.slice(at.name.length);
    const own = (name: string) =>
      Buffer.from(name)
        .subarray(0, longestName - behind.length)
        .toString()
        .replace(/\ufffd+$/, '') + behind;
    const sequences = head.filter((e) => e.type === 'SEQUENCE').map((e) => [e.name, own(e.name)] as const);
    const relations = new Map([[at.name, as.name], ...sequences]);
    return (text) => renamedNumbers(renamed(text, { schema: at.schema, relations, own }), at.schema, relations);
  }

  private async replace(table: TableBack, at: TableName): Promise<number> {
    const { c, hooks, runner } = this;
    const beside = { schema: at.schema, name: `${temporaryPrefix(hooks.taskId)}${this.made++}` };
    const text = await TableText.open(table.name, table.text());
    if (text.copy === undefined) return 0;
    const how = { schema: at.schema, relations: new Map([[at.name, beside.name]]), own: (name: string) => name };
    const [first] = entriesOf(text.head).filter((e) => e.type === 'TABLE');
    if (!first) throw new SourceError('DUMP_UNREADABLE', `${table.name}: it does not say how to make the table`);
    await runner.make({ ...first, text: renamed(first.text, how) }, 'strict');
    const columns = async (of: TableName) => JSON.stringify(await columnsOf(c, of));
    if ((await columns(beside)) !== (await columns(at))) {
      await c.run(`DROP TABLE ${sqlName(beside)}`);
      const keys = await removeTable(c, at);
      const bytes = await this.make(table, at, at, hooks);
      await addKeys(c, runner, keys, hooks.note);
      return bytes;
    }
    const { bytes, tail, count } = await fill(c, text, table, renamed(text.copy, how), hooks);
    await replaceRows(c, runner, at, beside, hooks.note);
    const { n } = (await c.row<{ n: string }>(`SELECT count(*) AS n FROM ${sqlName(at)}`))!;
    if (Number(n) !== count) throw new SourceError('ROWS_DIFFER', `${table.name}: ${n} instead of ${count}`);
    for (const entry of entriesOf(tail).filter((e) => e.type === 'SEQUENCE SET')) await this.setForward(entry);
    return bytes;
  }

  /** A sequence never goes back: numbers that were given out stay given out. */
  private async setForward(entry: DumpEntry): Promise<void> {
    const which = sqlName(entry);
    const now = await this.c.row<{ last_value: string }>(`SELECT last_value FROM ${which}`);
    const then = /setval\(.*, (-?\d+), (?:true|false)\)/.exec(entry.text)?.[1];
    if (now && then !== undefined && BigInt(then) > BigInt(now.last_value)) await this.runner.make(entry, 'strict');
  }

  async putInPlace(): Promise<void> {
    await this.c.run('COMMIT');
    for (const outcome of this.done) this.hooks.done(outcome);
    for (const [path, remark] of this.refused) this.hooks.failed({ path, remark });
  }

  async undo(): Promise<void> {
    await this.c.run('ROLLBACK');
  }
}

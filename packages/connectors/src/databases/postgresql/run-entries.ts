import { SourceError } from '../../source-error';
import { StatementFailed, type PgConnection } from './connection';
import type { DumpEntry } from './dump-text';

const ownerLine = /\n+ALTER [^\n]* OWNER TO [^\n]*;\s*$/;
/** An account is not there, or ours may not act for it. */
const accountTrouble = ['42704', '42501', '42939'];
/** What is there already: schemas, tables and indexes, columns, objects, functions, a second primary key. */
const duplicates = ['42P06', '42P07', '42701', '42710', '42723', '42P16'];
/** Rights, remarks and owners matter less than what they are about. */
const aside = new Set(['ACL', 'DEFAULT ACL', 'COMMENT', 'SECURITY LABEL', 'POLICY']);
/** What concerns other servers, or the whole of this one. */
const beyond = new Set([
  'PUBLICATION',
  'PUBLICATION TABLE',
  'PUBLICATION TABLES IN SCHEMA',
  'EVENT TRIGGER',
  'TABLE ATTACH',
  'INDEX ATTACH',
]);
const brokenKey = '23503';
const keyHasNoRoom = new Set(['42P01', '42830', '3F000']);

/** How far what can't be made stops everything. */
export type Tolerance = 'strict' | 'duplicates stay';

/** Makes the objects of a dump in a database, each by itself. */
export class EntryRunner {
  private readonly told = new Set<string>();

  constructor(
    private readonly c: PgConnection,
    private readonly note: (message: string) => void,
    /** Whether everything is one transaction. */
    private readonly inTransaction: boolean,
  ) {}

  /** Runs statements so that a failure undoes them only. */
  async attempt(sql: string): Promise<StatementFailed | undefined> {
    try {
      if (this.inTransaction) await this.c.run('SAVEPOINT attempt');
      await this.c.run(sql);
      if (this.inTransaction) await this.c.run('RELEASE SAVEPOINT attempt');
      return undefined;
    } catch (error) {
      if (!(error instanceof StatementFailed) || error.code === 'DATABASE_AWAY') throw error;
      if (this.inTransaction) await this.c.run('ROLLBACK TO SAVEPOINT attempt');
      return error;
    }
  }

  /** Makes one object. Gives why it is not made where that is no reason to give up: it is there already, or is not needed by the rest. Throws SourceError. */
  async make(entry: DumpEntry, tolerance: Tolerance): Promise<StatementFailed | undefined> {
    const { text } = entry;
    const owner = ownerLine.exec(text)?.[0];
    const failed = await this.attempt(owner ? text.slice(0, -owner.length) : text);
    if (failed) return this.judge(entry, failed, tolerance);
    const unowned = owner ? await this.attempt(owner) : undefined;
    if (unowned && !accountTrouble.includes(unowned.sqlState)) throw unowned;
    if (unowned) this.tell(`owners: ${unowned.details}, so what it owned belongs to the account that restored`);
    return undefined;
  }

  private async judge(entry: DumpEntry, failed: StatementFailed, tolerance: Tolerance): Promise<StatementFailed> {
    const { type, name, text } = entry;
    if (tolerance === 'duplicates stay' && duplicates.includes(failed.sqlState)) return failed;
    if (type === 'FK CONSTRAINT' && failed.sqlState === brokenKey) {
      const again = await this.attempt(text.replace(/;\s*$/, ' NOT VALID;'));
      if (again) throw again;
      this.note(`the key ${name} points at rows that are not there, so it holds for new rows only: ${failed.details}`);
      return failed;
    }
    if (type === 'FK CONSTRAINT' && keyHasNoRoom.has(failed.sqlState)) this.note(`the key ${name} could not be made: ${failed.details}`);
    else if (aside.has(type) && accountTrouble.includes(failed.sqlState)) this.tell(`rights and remarks: ${failed.details}`);
    else if (beyond.has(type) || type === 'TRIGGER' || type === 'RULE')
      this.note(`${type.toLowerCase()} ${name} could not be made: ${failed.details}`);
    else throw new SourceError(failed.code, `${type.toLowerCase()} ${name}: ${failed.details}`);
    return failed;
  }

  private tell(message: string): void {
    if (this.told.has(message)) return;
    this.told.add(message);
    this.note(message);
  }
}

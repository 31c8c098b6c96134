import type { DatabaseFamily } from '@lithodex/kinds';
import type { DrillCheck, DrillResult } from '@lithodex/contract';
import { scratchCopies, SourceError, type ScratchCopy } from '@lithodex/connectors';
import { countOf } from '@lithodex/core';
import type { Drilled, DrillRoom } from './drill-room';

const mostValue = 60;

/** A database server of the mover's own with all databases of a point in it. */
export class ScratchRoom implements DrillRoom {
  readonly words = 'a database server of the mover';
  private copy: ScratchCopy | undefined;

  constructor(
    private readonly drilled: Drilled,
    private readonly family: DatabaseFamily,
  ) {}

  /** One that an earlier attempt started ended with its process. */
  clear(): Promise<void> {
    return Promise.resolve();
  }

  async bringBack(): Promise<void> {
    const { scratchCopy } = await scratchCopies();
    this.copy = await scratchCopy(this.drilled.ctx, [this.drilled.pick], this.family);
  }

  private get open(): ScratchCopy {
    if (!this.copy) throw new Error('nothing was brought back');
    return this.copy;
  }

  looks(): Promise<DrillResult[]> {
    const { databases } = this.open;
    const found = `${countOf(databases.length, 'database')}, every table with as many rows as were stored`;
    return Promise.resolve([{ what: 'The server starts and holds every table', found, passed: true }]);
  }

  async look(check: DrillCheck): Promise<DrillResult | undefined> {
    if (check.check !== 'query') return undefined;
    const { database, sql, is, value } = check;
    const what = `${database}: ${sql.replace(/\s+/g, ' ').slice(0, 300)} is ${is === 'least' ? 'at least ' : ''}${value}`;
    if (!this.open.databases.includes(database)) return { what, found: 'there is no such database in it', passed: false };
    try {
      const answer = await this.open.ask(database, sql);
      const passed = answer !== null && (is === 'equal' ? isEqual(answer, value) : Number(answer) >= Number(value));
      return { what, found: answer === null ? 'nothing' : answer.slice(0, mostValue), passed };
    } catch (error) {
      if (!(error instanceof SourceError)) throw error;
      return { what, found: error.message.slice(0, 900), passed: false };
    }
  }

  told(): Record<string, string> {
    return {};
  }

  async remove(): Promise<void> {
    await this.copy?.stop();
    this.copy = undefined;
  }
}

/** As text, or as numbers where both are. */
function isEqual(a: string, b: string): boolean {
  return a === b || (a.trim() !== '' && b.trim() !== '' && Number(a) === Number(b));
}

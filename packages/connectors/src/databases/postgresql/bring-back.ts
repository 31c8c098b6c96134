import { formatFirst } from '@lithodex/core';
import { EngineError } from '@lithodex/engine';
import type { DatabaseServer } from '@lithodex/kinds';
import { SourceError } from '../../source-error';
import type { BringBackHooks, BringBackRule, DatabaseBack } from '../family';
import { commonDatabase, PgConnection, withPg } from './connection';
import { partsOf, qualified, quoted } from './dump-text';
import { InTransaction } from './in-transaction';
import { exists } from './replace-table';
import { makeDatabase, temporaryPrefix, WholeDatabase } from './whole-database';

const longestName = 63;
const stoppedEveryMs = 500;
const lockMs = 30_000;

/** What is loaded and not in place yet. */
interface Loading {
  /** The process of the server that works for it now. */
  readonly process: () => number | null;
  readonly load: () => Promise<void>;
  readonly putInPlace: () => Promise<void>;
  readonly undo: () => Promise<void>;
  readonly close: () => Promise<void>;
}

/**
 * Whole databases are loaded under temporary names and get their own only when all are whole; single tables and others are brought into a database that is there within one transaction.
 * What an interrupted attempt of the same task left is removed first. Throws SourceError.
 */
export function bringBack(
  server: DatabaseServer,
  databases: readonly DatabaseBack[],
  rule: BringBackRule,
  hooks: BringBackHooks,
): Promise<void> {
  return withPg(server, commonDatabase, (c) => new BringBack(server, c, rule, hooks).run(databases));
}

class BringBack {
  private readonly prefix: string;
  private readonly loading: Loading[] = [];

  constructor(
    private readonly server: DatabaseServer,
    private readonly c: PgConnection,
    private readonly rule: BringBackRule,
    private readonly hooks: BringBackHooks,
  ) {
    this.prefix = temporaryPrefix(hooks.taskId);
  }

  async run(databases: readonly DatabaseBack[]): Promise<void> {
    const { hooks } = this;
    // nobody waits without end for a name that others hold
    await this.c.run(`SET lock_timeout = ${lockMs}`);
    await this.dropTemporary();
    for (const d of databases) await this.check(d);
    const placed = new Set<Loading>();
    // who stops a restore does not wait for a lock, or for an index that is made
    const watch = setInterval(() => {
      if (hooks.stopped()) for (const one of this.loading) this.end(one.process());
    }, stoppedEveryMs);
    try {
      hooks.phase('loading');
      for (const d of databases) {
        const one = await this.loadingOf(d);
        this.loading.push(one);
        await one.load();
      }
      if (hooks.stopped()) throw new EngineError('STOPPED');
      hooks.phase('putting in place');
      for (const one of this.loading) {
        await one.putInPlace();
        placed.add(one);
      }
    } catch (error) {
      clearInterval(watch);
      for (const one of this.loading.filter((l) => !placed.has(l))) await one.undo().catch(() => undefined);
      if (hooks.stopped()) throw new EngineError('STOPPED');
      throw error;
    } finally {
      clearInterval(watch);
      for (const one of this.loading) await one.close();
    }
    await hooks.drain();
  }

  private end(process: number | null): void {
    if (process !== null) this.c.rows('SELECT pg_terminate_backend($1)', [process]).catch(() => undefined);
  }

  private async isThere(name: string): Promise<boolean> {
    return (await this.c.row('SELECT 1 FROM pg_database WHERE datname = $1', [name])) !== undefined;
  }

  private async dropTemporary(): Promise<void> {
    for (const { datname } of await this.c.rows<{ datname: string }>('SELECT datname FROM pg_database'))
      if (datname.startsWith(this.prefix)) await this.c.run(`DROP DATABASE ${quoted(datname)} WITH (FORCE)`);
  }

  private besides(name: string): string {
    return `${name}${this.rule.suffix}`;
  }

  /** Nothing is begun that can't be ended. */
  private async check(d: DatabaseBack): Promise<void> {
    if (this.rule.exists !== 'beside' || !(await this.isThere(d.to))) return;
    const named = (name: string) => {
      if (Buffer.byteLength(name) > longestName) throw new SourceError('NAME_TOO_LONG', name);
    };
    if (d.around) {
      const name = this.besides(d.to);
      named(name);
      if (await this.isThere(name)) throw new SourceError('EXISTS_THERE', `the database ${name}`);
      return;
    }
    const finals = d.tables.flatMap((t) => {
      const at = partsOf(t.name);
      return at ? [{ schema: at.schema, name: this.besides(at.name) }] : [];
    });
    await withPg(this.server, d.to, async (c) => {
      const taken: string[] = [];
      for (const final of finals) {
        named(final.name);
        if (await exists(c, final)) taken.push(qualified(final.schema, final.name));
      }
      if (taken.length) throw new SourceError('EXISTS_THERE', formatFirst(taken, 5));
    });
  }

  private async loadingOf(d: DatabaseBack): Promise<Loading> {
    const { server, c, rule, hooks } = this;
    const isThere = await this.isThere(d.to);
    if (d.around && (!isThere || rule.exists !== 'leave')) {
      const temporary = `${this.prefix}${this.loading.length}`;
      const final = isThere && rule.exists === 'beside' ? this.besides(d.to) : d.to;
      const whole = new WholeDatabase(server, c, d, temporary, final, hooks);
      return {
        process: () => whole.process,
        load: () => whole.load(),
        putInPlace: () => whole.putInPlace(isThere && rule.exists === 'replace'),
        undo: () => whole.undo(),
        close: () => Promise.resolve(),
      };
    }
    if (!isThere) {
      await makeDatabase(c, d, d.to, hooks.note);
      hooks.note(`the database ${d.to} was made`);
    }
    const inside = await PgConnection.open(server, d.to);
    const transaction = new InTransaction(inside, d, rule, hooks);
    return {
      process: () => inside.process,
      load: () => transaction.load(),
      putInPlace: () => transaction.putInPlace(),
      async undo() {
        await transaction.undo();
        await inside.close();
        if (!isThere) await c.run(`DROP DATABASE ${quoted(d.to)}`);
      },
      close: () => inside.close(),
    };
  }
}

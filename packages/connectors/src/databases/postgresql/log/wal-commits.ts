import type { DatabaseCommit } from '@lithodex/kinds';
import { manyRows } from '../../log-point';
import { placeOf } from './lsn';

const mostTables = 20;
/** Changes of tables by transactions that have not ended. */
const mostOpen = 100_000;

/** Tables by the number of their database and of their file. */
export type Relations = Readonly<Record<string, { readonly database: string; readonly table: string }>>;

const line = /^rmgr: (\w+)\s+len \(rec\/tot\):\s*\d+\/\s*\d+, tx:\s*(\d+), lsn: ([0-9A-F]+\/[0-9A-F]+), prev [0-9A-F/]+, desc: (.*)$/;
const relation = /blkref #0: rel \d+\/(\d+)\/(\d+)/;
const changes: Readonly<Record<string, 'inserted' | 'updated' | 'deleted'>> = {
  INSERT: 'inserted',
  MULTI_INSERT: 'inserted',
  UPDATE: 'updated',
  HOT_UPDATE: 'updated',
  DELETE: 'deleted',
};

type Changed = DatabaseCommit['tables'][number];

/** Gathers commits from what the family's program says of the records of a log, a line each. Records of the server's own tables are passed over. */
export class WalCommits {
  private readonly open = new Map<string, Map<string, Changed>>();

  /** `file`: what the log is called; `done` is called with every commit that changed a table. */
  constructor(
    private readonly file: string,
    private readonly relations: Relations,
    private readonly done: (commit: DatabaseCommit) => void,
  ) {}

  take(text: string): void {
    const record = line.exec(text);
    if (!record) return;
    const [, manager, tx, lsn, desc] = record as unknown as [string, string, string, string, string];
    if (manager === 'Transaction') this.ended(tx, lsn, desc);
    else if (manager === 'Heap' || manager === 'Heap2') this.changed(tx, desc);
  }

  private changed(tx: string, desc: string): void {
    const change = changes[/^\w+/.exec(desc)?.[0] ?? ''];
    const at = change && relation.exec(desc);
    const table = at && this.relations[`${at[1]}/${at[2]}`];
    if (!table) return;
    const several = /^MULTI_INSERT(?:\+INIT)? (\d+) tuples/.exec(desc);
    this.count(tx, { ...table, change, rows: several ? Number(several[1]) : 1 });
  }

  private count(tx: string, changed: Changed): void {
    let own = this.open.get(tx);
    if (!own) {
      if (this.open.size >= mostOpen) return;
      this.open.set(tx, (own = new Map<string, Changed>()));
    }
    const key = `${changed.database}\0${changed.table}\0${changed.change}`;
    const known = own.get(key);
    if (known) own.set(key, { ...known, rows: known.rows + changed.rows });
    else if (own.size < mostTables) own.set(key, changed);
  }

  private ended(tx: string, lsn: string, desc: string): void {
    const parts = desc.split('; ');
    const [what = ''] = parts;
    const subs = parts.find((p) => p.startsWith('subxacts:'))?.match(/\d+/g) ?? [];
    if (what.startsWith('COMMIT')) {
      const when = Date.parse(
        what
          .replace(/^COMMIT(?:_PREPARED)?(?: \d+)? /, '')
          .replace(' UTC', 'Z')
          .replace(' ', 'T'),
      );
      // files that are gone with it: a table was dropped or emptied
      for (const [, database, file] of (parts.find((p) => p.startsWith('rels:')) ?? '').matchAll(/base\/(\d+)\/(\d+)/g)) {
        const table = this.relations[`${database}/${file}`];
        if (table) this.count(tx, { ...table, change: 'statement', rows: 0 });
      }
      for (const sub of subs) for (const changed of this.open.get(sub)?.values() ?? []) this.count(tx, changed);
      const tables = [...(this.open.get(tx)?.values() ?? [])];
      if (tables.length && Number.isFinite(when)) {
        const statement = tables.some((t) => t.change === 'statement') ? 'a table was dropped, emptied or written anew' : '';
        this.done({ at: when, file: this.file, position: placeOf(lsn), id: `${lsn} of ${tx}`, statement, tables });
      }
    }
    for (const one of [tx, ...subs]) this.open.delete(one);
  }
}

/** Whether a commit took much away. */
export const isNotable = ({ tables }: DatabaseCommit): boolean =>
  tables.some((t) => t.change === 'statement' || (t.change === 'deleted' && t.rows >= manyRows));

import type { DatabaseCommit } from '@lithodex/kinds';
import { describe, expect, it } from 'vitest';
import { isNotable, WalCommits } from './wal-commits';

const relations = { '16384/16390': { database: 'tide', table: 'public.level' } };
const record = (manager: string, tx: number, lsn: string, desc: string) =>
  `rmgr: ${manager.padEnd(11)} len (rec/tot):     54/    54, tx: ${String(tx).padStart(10)}, lsn: ${lsn}, prev 0/0154F090, desc: ${desc}`;
const of = (file: number) => `, blkref #0: rel 1663/16384/${file} blk 0`;

function read(...lines: string[]): DatabaseCommit[] {
  const found: DatabaseCommit[] = [];
  const commits = new WalCommits('timeline 1', relations, (c) => found.push(c));
  for (const l of lines) commits.take(l);
  return found;
}

describe('commits of a log', () => {
  it('count rows by table and change, those of parts of a transaction too', () => {
    const found = read(
      record('Heap', 700, '0/10', `INSERT off 3 flags 0x08${of(16390)}`),
      record('Heap2', 700, '0/20', `MULTI_INSERT+INIT 185 tuples flags 0x00${of(16390)}`),
      record('Heap', 701, '0/30', `DELETE off 3 KEYS_UPDATED${of(16390)}`),
      record('Heap', 700, '0/40', `INSERT off 3${of(1259)}`),
      record('Btree', 700, '0/50', `INSERT_LEAF off 3${of(16390)}`),
      record('Transaction', 700, '0/0154F0B8', 'COMMIT 2026-11-22 14:03:26.123456 UTC; subxacts: 701; inval msgs: catcache 7'),
    );
    expect(found).toEqual([
      {
        at: Date.UTC(2026, 10, 22, 14, 3, 26, 123),
        file: 'timeline 1',
        position: 0x0154f0b8,
        id: '0/0154F0B8 of 700',
        statement: '',
        tables: [
          { database: 'tide', table: 'public.level', change: 'inserted', rows: 186 },
          { database: 'tide', table: 'public.level', change: 'deleted', rows: 1 },
        ],
      },
    ]);
  });

  it('leave out what was taken back and what changed no table, and tell of files that are gone', () => {
    const found = read(
      record('Heap', 700, '0/10', `DELETE off 3${of(16390)}`),
      record('Transaction', 700, '0/20', 'ABORT 2026-11-22 14:03:26 UTC'),
      record('Transaction', 700, '0/30', 'COMMIT 2026-11-22 14:03:27 UTC'),
      record('Transaction', 702, '0/40', 'COMMIT 2026-11-22 14:03:28.5 UTC; rels: base/16384/16390; inval msgs: x'),
      'pg_waldump: something else',
    );
    expect(found).toMatchObject([{ position: 0x40, tables: [{ table: 'public.level', change: 'statement' }] }]);
    expect(found.map(isNotable)).toEqual([true]);
  });
});

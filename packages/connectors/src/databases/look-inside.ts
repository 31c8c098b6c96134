import type { DatabaseInside, DatabaseServer, RowsCompared, RowsInside } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import { backOf } from './everything-of';
import { familyOf } from './families';
import type { BringBackHooks, RowsWanted, TableName } from './family';
import { keptScratch } from './kept-scratch';

/** Rows of each kind of difference that are shown. */
const shownRows = 100;
/** Behind the name of a table of now that stands in a scratch server beside the one of then. */
const ofNow = '_now';
/** Longest time that a comparison may take: nobody waits longer. */
const mostMs = 50_000;

/** What a scratch server that stays up holds. Throws SCRATCH_GONE. */
export async function insideScratch(taskId: string): Promise<DatabaseInside> {
  const { server, until } = keptScratch(taskId);
  const family = familyOf(server.family);
  const tables = await family.tables(server);
  const beside = new Set(tables.map(({ database, table }) => JSON.stringify([database, family.besides(table, ofNow)])));
  return { until, tables: tables.filter(({ database, table }) => !beside.has(JSON.stringify([database, table]))) };
}

/** Rows of a table of it. Throws SCRATCH_GONE, TABLE_GONE. */
export function rowsInside(taskId: string, table: TableName, which: RowsWanted): Promise<RowsInside> {
  const { server } = keptScratch(taskId);
  return familyOf(server.family).rowsOf(server, table, which);
}

const nothing = () => undefined;
const hooksUntil = (taskId: string, ends: number): BringBackHooks => ({
  taskId,
  phase: nothing,
  note: nothing,
  done: nothing,
  failed: ({ path, remark }) => {
    throw new SourceError('DATABASE_FAILED', `${path}: ${remark}`);
  },
  moved: nothing,
  drain: nothing,
  stopped: () => Date.now() > ends,
});

/**
 * How a table of a scratch server differs from what stands now on the server it was taken of, in a database of that name: the rows of now are read and put beside those of then, in the scratch server.
 * Nothing is written to that server. Throws SourceError, TOO_LONG.
 */
export async function compareInside(taskId: string, from: DatabaseServer, { database, table }: TableName): Promise<RowsCompared> {
  const { server } = keptScratch(taskId);
  const family = familyOf(server.family);
  const reading = await family.read(from);
  try {
    const back = backOf(reading, await reading.database(database));
    const own = back.tables.find((t) => t.name === table);
    if (!own) throw new SourceError('TABLE_GONE', `${database}.${table}`);
    const now = { ...back, around: undefined, tables: [own], others: [] };
    const besides = family.besides(table, ofNow);
    await family.dropTable(server, { database, table: besides });
    const hooks = hooksUntil(taskId, Date.now() + mostMs);
    await family.bringBack(server, [now], { exists: 'beside', suffix: ofNow }, hooks);
    return await family.compareRows(server, { database, now: besides, then: table }, shownRows);
  } catch (error) {
    if ((error as { code?: string }).code === 'STOPPED') throw new SourceError('TOO_LONG');
    throw error;
  } finally {
    await reading.close();
  }
}

import { EngineError } from '@lithodex/engine';
import type { DatabasePoint } from '@lithodex/kinds';
import type { DatabaseRead, RowSink, RowsTake, Stopped, TableRead } from '../family';
import { passRows } from '../row-pieces';
import { SourceError } from '../../source-error';
import { quoted, type MariadbConnection } from './connection';
import { RowText } from './row-text';

/** Storage whose rows stand elsewhere: they are not this server's to read. */
const elsewhere = ['MRG_MYISAM', 'FEDERATED', 'CONNECT', 'OQGRAPH', 'SPIDER'];

/** Times in one zone, rows as they are stored, and nothing that ends a long reading. */
const readingSettings = [
  "SET SESSION time_zone = '+00:00', sql_mode = '', max_statement_time = 0, net_write_timeout = 3600, sql_select_limit = DEFAULT",
  'SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ',
];

/** Sets a connection up for {@link readTable}. */
export async function prepareReading(c: MariadbConnection): Promise<void> {
  for (const sql of readingSettings) await c.run(sql);
}

/** Rows of all wanted tables as they are at one instant; the place of the log at it is asked for when it is fixed. The connection serves nothing else meanwhile. Throws SourceError, STOPPED and what a sink throws. */
export async function readRows(
  c: MariadbConnection,
  databases: readonly DatabaseRead[],
  placeOf: (c: MariadbConnection) => Promise<DatabasePoint['position']>,
  take: RowsTake,
  stopped: Stopped,
): Promise<void> {
  await prepareReading(c);
  await c.run('START TRANSACTION WITH CONSISTENT SNAPSHOT');
  await take.fixed(await placeOf(c));
  for (const d of databases)
    for (const t of d.tables) if (take.wants(d.name, t.name)) await readTable(c, d.name, t, () => take.sink(d.name, t.name), stopped);
  await c.run('ROLLBACK');
}

/** Rows of one table, as a connection that was prepared sees them. The sink is asked for when the first comes. */
export async function readTable(
  c: MariadbConnection,
  database: string,
  { name }: TableRead,
  sinkOf: () => RowSink | undefined,
  stopped: Stopped,
): Promise<void> {
  const table = `${quoted(database)}.${quoted(name)}`;
  const engine = await c.row<{ engine: string | null }>(
    'SELECT engine FROM information_schema.tables WHERE table_schema = ? AND table_name = ?',
    [database, name],
  );
  if (!engine) throw new SourceError('DATABASE_CHANGED', `${database}.${name} is not there any more`);
  if (elsewhere.includes((engine.engine ?? '').toUpperCase())) return;
  const columns = await c.rows<{ name: string; extra: string }>(
    'SELECT column_name AS name, extra FROM information_schema.columns WHERE table_schema = ? AND table_name = ? ORDER BY ordinal_position',
    [database, name],
  );
  const stored = columns.filter(({ extra }) => !/\bGENERATED\b/i.test(extra));
  if (stored.length === 0) return;
  const list = stored.map((column) => quoted(column.name)).join(', ');
  const named = columns.some(({ extra }) => /\b(GENERATED|INVISIBLE)\b/i.test(extra)) ? ` (${list})` : '';
  const opening = Buffer.from(`INSERT INTO ${quoted(name)}${named} VALUES (`);
  let sink: RowSink | undefined;
  let text: RowText | undefined;
  await c.rawRows(`SELECT SQL_NO_CACHE ${list} FROM ${table}`, {
    begin(found) {
      text = new RowText(opening, found, async (lines) => {
        if (stopped()) throw new EngineError('STOPPED');
        sink ??= sinkOf();
        if (sink) await passRows(sink, lines, opening.length - 1);
      });
    },
    row: (data, from, to) => text!.add(data, from, to),
  });
  await text?.finish();
}

import { itemNameOf, joinPath } from '@lithodex/core';
import type { DatabaseBack, DatabaseRead, Reading } from './family';
import { objectPath } from './object-paths';

/** All databases of a server that is being read, as something to bring back. */
export async function everythingOf(reading: Reading): Promise<DatabaseBack[]> {
  const databases: DatabaseBack[] = [];
  for (const name of reading.names) databases.push(backOf(reading, await reading.database(name)));
  return databases;
}

/** A database of a server that is being read, as something to bring back: rows are read when they are wanted. */
export function backOf(reading: Reading, d: DatabaseRead): DatabaseBack {
  const below = itemNameOf(d.name);
  return {
    to: d.name,
    text: () => Promise.resolve(d.text),
    around: d.around && { before: () => Promise.resolve(d.around!.before), after: () => Promise.resolve(d.around!.after) },
    tables: d.tables.map((t) => ({
      name: t.name,
      path: joinPath(below, objectPath('table', t.name)),
      text: () => reading.table(d.name, t),
    })),
    others: d.others.map((o) => ({
      type: o.type,
      name: o.name,
      path: joinPath(below, objectPath(o.type, o.name)),
      text: () => Promise.resolve(o.text),
    })),
  };
}

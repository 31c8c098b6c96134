import { countOf, formatMoment, itemNameOf, joinPath } from '@lithodex/core';
import { topEntry, type StreamStored, type TreeEntry } from '@lithodex/engine';
import type { DatabasePoint, DatabaseServer } from '@lithodex/kinds';
import type { CaptureContext } from '../connector';
import { SourceError } from '../source-error';
import { familyOf } from './families';
import type { DatabaseRead } from './family';
import { LogGap } from './log-point';
import { objectPath } from './object-paths';

/** Stored texts of tables, by database and path. */
export type TakenOver = ReadonlyMap<string, ReadonlyMap<string, StreamStored>>;

const nothing: TakenOver = new Map();

/** The tables that are as they were in the point this one builds on, as the log tells: they need not be read. None where the log can not tell, which is noted. */
export async function takenOver(
  ctx: CaptureContext,
  server: DatabaseServer,
  version: string,
  databases: readonly DatabaseRead[],
  position: DatabasePoint['position'],
): Promise<TakenOver> {
  const { base } = ctx;
  const before = base?.content.facts as DatabasePoint | undefined;
  const family = familyOf(server.family);
  if (!base || !before?.position || !position || !family.changed || before.version !== version) return nothing;
  let isChanged: (database: string, table: string) => boolean;
  try {
    isChanged = await family.changed(server, before.position, position, ctx.stopped);
  } catch (error) {
    if (!(error instanceof LogGap || error instanceof SourceError)) throw error;
    ctx.note({ code: 'READ_WHOLE', path: '', message: `every table is read, as the log does not tell which changed: ${error.message}` });
    return nothing;
  }
  const found = new Map<string, Map<string, StreamStored>>();
  const below = async (entry: TreeEntry | undefined) => (entry?.folder ? ctx.store.trees.folder(entry.folder.node) : []);
  const top = await below(topEntry(base));
  // how to make these and their rows may be of different instants
  const { altered = [] } = base.content.state as { readonly altered?: readonly string[] };
  let count = 0;
  for (const d of databases) {
    const stored = await below((await below(top.find((e) => e.name === itemNameOf(d.name)))).find((e) => e.name === 'tables'));
    const byPath = new Map(stored.map((e) => [`tables/${e.name}`, e]));
    const own = new Map<string, StreamStored>();
    for (const t of d.tables) {
      const path = objectPath('table', t.name);
      const entry = byPath.get(path);
      if (!entry || isChanged(d.name, t.name) || altered.includes(joinPath(itemNameOf(d.name), path))) continue;
      own.set(path, { size: entry.size, random: entry.random ?? false, ...(entry.content && { content: entry.content }) });
      count++;
    }
    found.set(d.name, own);
  }
  const tables = databases.reduce((n, d) => n + d.tables.length, 0);
  const since = formatMoment(base.moment, 'UTC');
  ctx.note({
    code: 'TAKEN_OVER',
    path: '',
    message: `${count} of ${countOf(tables, 'table')} taken over from the point of ${since} UTC: the log says that they did not change`,
  });
  return found;
}

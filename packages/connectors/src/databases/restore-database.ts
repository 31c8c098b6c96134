import { countOf, joinPath, objectNameOf } from '@lithodex/core';
import { EngineError, type Store, type TreeEntry } from '@lithodex/engine';
import type { DatabaseTo } from '@lithodex/kinds';
import type { RestoreContext, RestoreOutcome, RestorePick } from '../connector';
import { SourceError } from '../source-error';
import { familyOf } from './families';
import type { DatabaseBack, OtherBack, TableBack } from './family';
import { accountsItem, databaseItem, objectAt } from './object-paths';

interface Gathered {
  text: (() => Promise<string>) | undefined;
  readonly tables: Map<string, TableBack>;
  readonly others: Map<string, OtherBack>;
}

const mostText = 16 << 20;

/** The content of an item of a point, in pieces. Sums are checked as they are read. */
async function* contentOf(store: Store, entry: TreeEntry): AsyncGenerator<Buffer> {
  for await (const { names } of store.trees.contentParts(entry.content))
    for (let at = 0; at < names.length; at += 32) yield await store.reader.read(names.subarray(at, at + 32));
}

async function textOf(store: Store, entry: TreeEntry): Promise<string> {
  if (entry.size > mostText) throw new SourceError('DUMP_UNREADABLE', 'a text of more than 16 MiB');
  const parts: Buffer[] = [];
  for await (const part of contentOf(store, entry)) parts.push(part);
  return Buffer.concat(parts).toString();
}

/** The objects that picked items hold, by database. Throws SourceError for what can't be put back alone. */
async function gather(picks: readonly RestorePick[]): Promise<Map<string, Gathered>> {
  const found = new Map<string, Gathered>();
  for (const pick of picks) {
    const { store, top } = await pick.open();
    const add = async (path: string, entry: TreeEntry): Promise<void> => {
      if (entry.folder) {
        for await (const piece of store.trees.pieces(entry.folder.node)) for (const e of piece) await add(joinPath(path, e.name), e);
        return;
      }
      const [folder, ...rest] = path.split('/');
      const below = rest.join('/');
      if (path === accountsItem) return;
      const database = objectNameOf(folder!);
      const into = found.get(database) ?? { text: undefined, tables: new Map<string, TableBack>(), others: new Map<string, OtherBack>() };
      found.set(database, into);
      const object = objectAt(below);
      if (below === databaseItem) into.text = () => textOf(store, entry);
      else if (object?.type === 'table') into.tables.set(object.name, { name: object.name, path, text: () => contentOf(store, entry) });
      else if (object) into.others.set(below, { type: object.type, name: object.name, path, text: () => textOf(store, entry) });
    };
    const entry = pick.path === '' ? top : await store.trees.find(top, pick.path);
    await add(pick.path, entry);
    // one object goes into a database that may have to be made
    const [folder] = pick.path.split('/');
    const into = folder ? found.get(objectNameOf(folder)) : undefined;
    if (into && !into.text) {
      const how = await store.trees.find(top, joinPath(folder!, databaseItem));
      into.text = () => textOf(store, how);
    }
  }
  return found;
}

/** Brings databases, or tables of them, back to a server. A trial looks whether the server would take them and writes nothing. Throws SourceError. */
export async function restoreDatabase(
  ctx: RestoreContext,
  picks: readonly RestorePick[],
  { server, destination }: DatabaseTo,
): Promise<RestoreOutcome> {
  ctx.phase('preparing');
  const gathered = await gather(picks);
  const names = new Map(destination.databases.map((d) => [d.from, d.to]));
  const databases: DatabaseBack[] = [...gathered].map(([from, { text, tables, others }]) => ({
    to: names.get(from) ?? from,
    text,
    tables: [...tables.values()],
    others: [...others.values()],
  }));
  const objects = databases.reduce((n, d) => n + d.tables.length + d.others.length, 0);
  if (objects === 0) throw new EngineError('OBJECT_MISSING', 'nothing that can be put back is picked');
  const family = familyOf(server.family);
  if (ctx.trial) {
    const { needs } = await family.test(server);
    const missing = needs.filter((n) => n.missing && n.neededFor.includes('restore')).map((n) => n.right);
    const message = missing.length ? `the account lacks ${missing.join(', ')}` : 'the account has every right that is needed';
    ctx.note({ code: 'TRIAL', path: '', message: `the server lets us in; ${message}` });
    return { items: objects, summary: `${countOf(objects, 'object')} looked at, nothing written` };
  }
  let items = 0;
  await family.bringBack(server, databases, destination, {
    taskId: ctx.taskId,
    phase: ctx.phase,
    note: (message) => {
      ctx.note({ code: 'DATABASE', path: '', message });
    },
    moved: ctx.moved,
    drain: ctx.drain,
    stopped: ctx.stopped,
    done: (item) => {
      items++;
      ctx.done({ ...item, kind: 'file' });
    },
    failed: ({ path, remark }) => {
      ctx.done({ path, action: 'failed', kind: 'file', bytes: 0, remark });
    },
  });
  return { items, summary: `${countOf(items, 'object')} done; every table holds as many rows as were stored` };
}

import { countOf, itemNameOf, joinPath, objectNameOf } from '@lithodex/core';
import { EngineError, type Store, type TreeEntry } from '@lithodex/engine';
import { accountsItem, filesItem, type DatabasePoint, type DatabaseTo } from '@lithodex/kinds';
import type { RestoreContext, RestoreOutcome, RestorePick } from '../connector';
import { SourceError } from '../source-error';
import { fromEdited } from './edited-dump';
import { familyOf } from './families';
import { everythingOf } from './everything-of';
import type { BringBackHooks, DatabaseBack, OtherBack, Scratch, TableBack } from './family';
import { keepScratch } from './kept-scratch';
import { afterRowsItem, beforeRowsItem, databaseItem, objectAt } from './object-paths';
import { contentOf } from './stored-content';

interface Gathered {
  text: (() => Promise<string>) | undefined;
  before?: () => Promise<string>;
  after?: () => Promise<string>;
  readonly tables: Map<string, TableBack>;
  readonly others: Map<string, OtherBack>;
}

const mostText = 16 << 20;

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
      if (path === accountsItem || path === filesItem) return;
      const database = objectNameOf(folder!);
      const into = found.get(database) ?? { text: undefined, tables: new Map<string, TableBack>(), others: new Map<string, OtherBack>() };
      found.set(database, into);
      const object = objectAt(below);
      if (below === databaseItem) into.text = () => textOf(store, entry);
      else if (below === beforeRowsItem) into.before = () => textOf(store, entry);
      else if (below === afterRowsItem) into.after = () => textOf(store, entry);
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

/** What of a server was picked: whole databases, or objects of them. */
function onlyPicked(databases: readonly DatabaseBack[], picks: readonly RestorePick[]): DatabaseBack[] {
  const isPicked = ({ path }: { readonly path: string }) =>
    picks.some((p) => p.path === '' || path === p.path || path.startsWith(`${p.path}/`));
  const isWhole = ({ to }: DatabaseBack) => picks.some((p) => p.path === '' || p.path === itemNameOf(to));
  return databases
    .map((d) => ({
      ...d,
      around: isWhole(d) ? d.around : undefined,
      tables: d.tables.filter(isPicked),
      others: d.others.filter(isPicked),
    }))
    .filter((d) => d.tables.length + d.others.length > 0);
}

/** Leaves a scratch server up, to be looked into. */
function keepUp(ctx: RestoreContext, scratch: Scratch, items: number, minutes: number): RestoreOutcome {
  const until = keepScratch(ctx.taskId, scratch, minutes);
  ctx.note({
    code: 'STAYS',
    path: '',
    message: `a scratch server of the mover stays up until ${new Date(until).toISOString().slice(0, 16).replace('T', ' ')} UTC`,
  });
  return { items, summary: `${countOf(items, 'object')} to be looked at in a scratch server` };
}

/** Brings databases, or tables of them, back to a server. A trial looks whether the server would take them and writes nothing. Throws SourceError. */
export async function restoreDatabase(
  ctx: RestoreContext,
  picks: readonly RestorePick[],
  { server, destination }: DatabaseTo,
): Promise<RestoreOutcome> {
  ctx.phase('preparing');
  const names = new Map(destination.databases.map((d) => [d.from, d.to]));
  const backs = async (of: readonly RestorePick[]): Promise<DatabaseBack[]> =>
    [...(await gather(of))].map(([from, { text, before, after, tables, others }]) => ({
      to: from,
      text,
      around: before && after && { before, after },
      tables: [...tables.values()],
      others: [...others.values()],
    }));
  const renamed = (of: readonly DatabaseBack[]) => of.map((d) => ({ ...d, to: names.get(d.to) ?? d.to }));
  const { until } = destination;
  const wanted = until ? picks.slice(0, -1) : picks;
  const databases = await backs(wanted);
  const objects = databases.reduce((n, d) => n + d.tables.length + d.others.length, 0);
  if (objects === 0) throw new EngineError('OBJECT_MISSING', 'nothing that can be put back is picked');
  const family = familyOf(server.family);
  let items = 0;
  const hooks: BringBackHooks = {
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
  };
  const { edited } = ctx;
  if (edited !== undefined) {
    const [database] = databases;
    if (edited === '') throw new SourceError('EDITED_REFUSED', 'it is not kept any more: give it again');
    if (!database || databases.length > 1 || picks.length > 1)
      throw new SourceError('EDITED_REFUSED', 'it stands for one database, or a part of one');
    await fromEdited(family, database, picks[0]!, edited, hooks, async (made) => {
      if (!ctx.trial) await family.bringBack(server, renamed([made]), destination, hooks);
    });
    const checked = ctx.trial ? 'the edited text runs; nothing was written' : `${countOf(items, 'object')} of the edited text done`;
    return { items: ctx.trial ? objects : items, summary: checked };
  }
  if (ctx.trial && destination.stays)
    return { items: objects, summary: `${countOf(objects, 'object')} would be looked at in a scratch server, nothing written` };
  if (ctx.trial) {
    const { needs } = await family.test(server);
    const missing = needs.filter((n) => n.missing && n.neededFor.includes('restore')).map((n) => n.right);
    const message = missing.length ? `the account lacks ${missing.join(', ')}` : 'the account has every right that is needed';
    ctx.note({ code: 'TRIAL', path: '', message: `the server lets us in; ${message}` });
    return { items: objects, summary: `${countOf(objects, 'object')} looked at, nothing written` };
  }
  if (!until && destination.stays) {
    hooks.phase('starting a scratch server');
    const scratch = await family.scratch();
    try {
      await family.bringBack(scratch.server, databases, { exists: 'leave', suffix: '' }, hooks);
    } catch (error) {
      await scratch.stop();
      throw error;
    }
    return keepUp(ctx, scratch, items, destination.stays);
  }
  if (!until) await family.bringBack(server, renamed(databases), destination, hooks);
  else {
    const [full, log] = [await wanted[0]!.open(), await picks.at(-1)!.open()];
    const whole = await backs([{ ...wanted[0]!, path: '' }]);
    const { position } = full.root.content.facts as DatabasePoint;
    if (!position) throw new SourceError('LOG_LACKS', 'the full does not say where the log stood');
    const from = { file: position.file, at: position.at };
    const end = log.root.content.state as { stretch: number; file: string; at: number };
    const state = log.root.content.state as object;
    const replay = { store: log.store, top: log.top, stretch: until.stretch, from, end, until, full, state };
    const { scratch, replayed } = await family.atSecond(whole, replay, hooks);
    try {
      const message = replayed.commits === null ? 'the log was replayed' : `${countOf(replayed.commits, 'commit')} of the log replayed`;
      ctx.note({ code: 'REPLAYED', path: '', message });
      if (destination.stays) return keepUp(ctx, scratch, objects, destination.stays);
      const reading = await family.read(scratch.server);
      try {
        await family.bringBack(server, renamed(onlyPicked(await everythingOf(reading), wanted)), destination, hooks);
      } finally {
        await reading.close();
      }
    } finally {
      if (!destination.stays) await scratch.stop();
    }
  }
  return { items, summary: `${countOf(items, 'object')} done; every table holds as many rows as were stored` };
}

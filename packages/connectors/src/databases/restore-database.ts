import { countOf, itemNameOf, joinPath, objectNameOf } from '@lithodex/core';
import { EngineError, type TreeEntry } from '@lithodex/engine';
import { accountsItem, filesItem, type DatabaseDestination, type DatabasePoint, type DatabaseTo } from '@lithodex/kinds';
import type { RestoreContext, RestoreOutcome, RestorePick } from '../connector';
import { SourceError } from '../source-error';
import { fromEdited } from './edited-dump';
import { familyOf } from './families';
import { everythingOf } from './everything-of';
import type { BringBackHooks, DatabaseBack, Family, LogToReplay, OtherBack, Scratch, TableBack } from './family';
import { keepScratch } from './kept-scratch';
import { afterRowsItem, beforeRowsItem, databaseItem, objectAt } from './object-paths';
import { contentOf } from './stored-content';
import type { PointStore } from '../point-store';

interface Gathered {
  text: (() => Promise<string>) | undefined;
  before?: () => Promise<string>;
  after?: () => Promise<string>;
  readonly tables: Map<string, TableBack>;
  readonly others: Map<string, OtherBack>;
}

type Until = NonNullable<DatabaseDestination['until']>;
const mostText = 16 << 20;

async function textOf(store: PointStore, entry: TreeEntry): Promise<string> {
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

const renamed = (databases: readonly DatabaseBack[], { databases: names }: DatabaseDestination): DatabaseBack[] =>
  databases.map((d) => ({ ...d, to: names.find((n) => n.from === d.to)?.to ?? d.to }));

/** What picked items hold, by database. Throws SourceError for what can't be put back alone. */
export async function backsOf(picks: readonly RestorePick[]): Promise<DatabaseBack[]> {
  return [...(await gather(picks))].map(([from, { text, before, after, tables, others }]) => ({
    to: from,
    text,
    around: before && after && { before, after },
    tables: [...tables.values()],
    others: [...others.values()],
  }));
}

/** What a restore is told by the way. */
export function hooksOf(ctx: RestoreContext, onDone: () => void = () => undefined): BringBackHooks {
  return {
    taskId: ctx.taskId,
    phase: ctx.phase,
    note: (message) => {
      ctx.note({ code: 'DATABASE', path: '', message });
    },
    moved: ctx.moved,
    drain: ctx.drain,
    stopped: ctx.stopped,
    done: (item) => {
      onDone();
      ctx.done({ ...item, kind: 'file' });
    },
    failed: ({ path, remark }) => {
      ctx.done({ path, action: 'failed', kind: 'file', bytes: 0, remark });
    },
  };
}

/** A scratch server with what is picked in it, to be stopped by the caller. */
export async function broughtToScratch(family: Family, databases: readonly DatabaseBack[], hooks: BringBackHooks): Promise<Scratch> {
  hooks.phase('starting a scratch server');
  const scratch = await family.scratch();
  try {
    await family.bringBack(scratch.server, databases, { exists: 'leave', suffix: '' }, hooks);
    return scratch;
  } catch (error) {
    await scratch.stop();
    throw error;
  }
}

/** Databases, or parts of them, on their way back. */
class DatabaseRestore {
  private items = 0;
  private readonly hooks: BringBackHooks;
  private readonly family: Family;

  constructor(
    private readonly ctx: RestoreContext,
    private readonly databases: readonly DatabaseBack[],
    private readonly to: DatabaseTo,
  ) {
    this.family = familyOf(to.server.family);
    this.hooks = hooksOf(ctx, () => this.items++);
  }

  private get objects(): number {
    return this.databases.reduce((n, d) => n + d.tables.length + d.others.length, 0);
  }

  private async bringBack(databases: readonly DatabaseBack[]): Promise<RestoreOutcome> {
    const { server, destination } = this.to;
    await this.family.bringBack(server, renamed(databases, destination), destination, this.hooks);
    return { items: this.items, summary: `${countOf(this.items, 'object')} done; every table holds as many rows as were stored` };
  }

  asStored(): Promise<RestoreOutcome> {
    return this.bringBack(this.databases);
  }

  /** Looks whether the server would take them. */
  async trial(): Promise<RestoreOutcome> {
    const items = this.objects;
    if (this.to.destination.stays)
      return { items, summary: `${countOf(items, 'object')} would be looked at in a scratch server, nothing written` };
    const { needs } = await this.family.test(this.to.server);
    const missing = needs.filter((n) => n.missing && n.neededFor.includes('restore')).map((n) => n.right);
    const message = missing.length ? `the account lacks ${missing.join(', ')}` : 'the account has every right that is needed';
    this.ctx.note({ code: 'TRIAL', path: '', message: `the server lets us in; ${message}` });
    return { items, summary: `${countOf(items, 'object')} looked at, nothing written` };
  }

  /** What a text makes that takes the place of what is stored; in a trial it is run in a scratch server only. */
  async fromText(text: string, picks: readonly RestorePick[]): Promise<RestoreOutcome> {
    const [database] = this.databases;
    if (text === '') throw new SourceError('EDITED_REFUSED', 'it is not kept any more: give it again');
    if (!database || this.databases.length > 1 || picks.length > 1)
      throw new SourceError('EDITED_REFUSED', 'it stands for one database, or a part of one');
    const { trial } = this.ctx;
    await fromEdited(this.family, database, picks[0]!, text, this.hooks, async (made) => {
      if (!trial) await this.bringBack([made]);
    });
    if (trial) return { items: this.objects, summary: 'the edited text runs; nothing was written' };
    return { items: this.items, summary: `${countOf(this.items, 'object')} of the edited text done` };
  }

  /** Into a scratch server that stays up for some minutes. */
  async toLookAt(minutes: number): Promise<RestoreOutcome> {
    return this.keepUp(await broughtToScratch(this.family, this.databases, this.hooks), minutes);
  }

  private keepUp(scratch: Scratch, minutes: number): RestoreOutcome {
    const until = keepScratch(this.ctx.taskId, scratch, minutes);
    const words = new Date(until).toISOString().slice(0, 16).replace('T', ' ');
    this.ctx.note({ code: 'STAYS', path: '', message: `a scratch server of the mover stays up until ${words} UTC` });
    return { items: this.objects, summary: `${countOf(this.objects, 'object')} to be looked at in a scratch server` };
  }

  /** As of another moment than that of their point, which the log leads to: the last pick is the point of the log. */
  async asOf(until: Until, wanted: readonly RestorePick[], last: RestorePick): Promise<RestoreOutcome> {
    const { stays } = this.to.destination;
    const [full, log] = [await wanted[0]!.open(), await last.open()];
    const { position } = full.root.content.facts as DatabasePoint;
    if (!position) throw new SourceError('LOG_LACKS', 'the full does not say where the log stood');
    const state = log.root.content.state as LogToReplay['end'];
    const replay: LogToReplay = {
      store: log.store,
      top: log.top,
      stretch: until.stretch,
      from: { file: position.file, at: position.at },
      end: state,
      state,
      until,
      full,
    };
    const { scratch, replayed } = await this.family.atSecond(await backsOf([{ ...wanted[0]!, path: '' }]), replay, this.hooks);
    try {
      const message = replayed.commits === null ? 'the log was replayed' : `${countOf(replayed.commits, 'commit')} of the log replayed`;
      this.ctx.note({ code: 'REPLAYED', path: '', message });
      if (stays) return this.keepUp(scratch, stays);
      const reading = await this.family.read(scratch.server);
      try {
        return await this.bringBack(onlyPicked(await everythingOf(reading), wanted));
      } finally {
        await reading.close();
      }
    } finally {
      if (!stays) await scratch.stop();
    }
  }
}

/** Brings databases, or tables of them, back to a server. A trial looks whether the server would take them and writes nothing. Throws SourceError. */
export async function restoreDatabase(ctx: RestoreContext, picks: readonly RestorePick[], to: DatabaseTo): Promise<RestoreOutcome> {
  ctx.phase('preparing');
  const { until, stays } = to.destination;
  const wanted = until ? picks.slice(0, -1) : picks;
  const databases = await backsOf(wanted);
  if (!databases.some((d) => d.tables.length + d.others.length > 0))
    throw new EngineError('OBJECT_MISSING', 'nothing that can be put back is picked');
  const restore = new DatabaseRestore(ctx, databases, to);
  if (ctx.edited !== undefined) return restore.fromText(ctx.edited, picks);
  if (ctx.trial) return restore.trial();
  if (until) return restore.asOf(until, wanted, picks.at(-1)!);
  return stays ? restore.toLookAt(stays) : restore.asStored();
}

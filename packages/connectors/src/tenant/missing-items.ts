import { joinPath, objectNameOf } from '@lithodex/core';
import { EngineError, type TreeEntry } from '@lithodex/engine';
import { tenantTops, type MissingItem, type MissingItems, type TenantFrom } from '@lithodex/kinds';
import type { ImapFlow } from 'imapflow';
import type { OpenPoint } from '../connector';
import { treeOf, type ReadableTree } from '../readable-tree';
import { SourceError } from '../source-error';
import { listFolder, openDrive } from './capture-drive';
import { collectionsOf, multiget, openGroupware, type Collections } from './capture-groupware';
import { foldersOf } from './capture-mail';
import { noneYet, type DavClient } from './dav-client';
import { closeMailbox, mailError, openMailbox } from './imap-account';
import { folderState, itemFacts } from './item-facts';
import { messagesThere, messageKey } from './messages-there';
import { sameMeaning, valueOf } from './same-meaning';
import { storedBytes } from './stored-bytes';

/** Items that are told at most. */
const mostTold = 3000;
const atOnce = 60;

interface Stored {
  readonly path: string;
  readonly entry: TreeEntry;
}
interface StoredFolder {
  readonly path: string;
  readonly entry: TreeEntry;
  readonly items: readonly Stored[];
}

/** Everything below a folder of a point, folder by folder. */
async function* foldersBelow(tree: ReadableTree, entry: TreeEntry, path: string): AsyncGenerator<StoredFolder> {
  if (!entry.folder || entry.unread) return;
  const entries = await tree.trees.folder(entry.folder.node);
  yield { path, entry, items: entries.filter((e) => e.kind === 'file').map((e) => ({ path: joinPath(path, e.name), entry: e })) };
  for (const e of entries) if (e.kind === 'folder') yield* foldersBelow(tree, e, joinPath(path, e.name));
}

/** Words that all have to be in what is known of an item. */
const holdsAll = (about: string, text: string) => {
  const all = text.toLowerCase();
  return about
    .toLowerCase()
    .split(/\s+/)
    .every((word) => all.includes(word));
};

const folderOf = (path: string) => path.split('/').slice(1, -1).map(objectNameOf).join(' / ');

function itemOf({ path, entry }: Stored, change: MissingItem['change'], was = '', now = ''): MissingItem {
  const facts = itemFacts(entry);
  const common = { path, change, folder: folderOf(path).slice(0, 1000), size: entry.size, was: was.slice(0, 300), now: now.slice(0, 300) };
  const at = Number(entry.mtimeNs / 1_000_000n);
  const last = objectNameOf(path.split('/').at(-1)!).slice(0, 1000);
  if (facts?.type === 'message')
    return { ...common, type: 'message', label: facts.subject || 'no subject', about: facts.from, at: facts.at };
  if (facts?.type === 'appointment') return { ...common, type: 'appointment', label: facts.title, about: facts.start, at: null };
  if (facts?.type === 'contact') return { ...common, type: 'contact', label: facts.title, about: facts.addresses.slice(0, 400), at: null };
  return { ...common, type: 'file', label: last, about: '', at };
}

const searched = ({ path, entry }: Stored): string => {
  const facts = itemFacts(entry);
  const names = facts?.type === 'message' ? `${facts.subject} ${facts.from} ${facts.to} ${facts.files.map((f) => f.name).join(' ')}` : '';
  return `${names} ${objectNameOf(path)}`;
};

class Missing {
  readonly items: MissingItem[] = [];
  looked = 0;
  found = 0;
  private readonly troubles: MissingItems['troubles'] = [];

  constructor(
    private readonly about: string,
    private readonly stopped: () => boolean,
  ) {}

  tell(stored: Stored, change: MissingItem['change'], was = '', now = ''): void {
    if (this.about !== '' && !holdsAll(this.about, searched(stored))) return;
    this.found++;
    if (this.items.length < mostTold) this.items.push(itemOf(stored, change, was, now));
  }

  goOn(): void {
    if (this.stopped()) throw new EngineError('STOPPED');
  }

  async service(top: string, act: () => Promise<void>): Promise<void> {
    try {
      await act();
    } catch (error) {
      if (error instanceof EngineError) throw error;
      const { message } = error instanceof SourceError ? error : mailError(error);
      this.troubles.push({ top, trouble: message.slice(0, 400) });
    }
  }

  get answer(): MissingItems {
    return { items: this.items, looked: this.looked, more: this.found - this.items.length, troubles: this.troubles };
  }
}

async function missingMail(missing: Missing, client: ImapFlow, tree: ReadableTree, top: TreeEntry): Promise<void> {
  const live = new Map((await foldersOf(client)).map((f) => [f.path, f]));
  /** What is there now, wherever in the mailbox: what was only moved is not missing. */
  const there = new Set<string>();
  const doubtful: Stored[] = [];
  const read = new Set<string>();
  for await (const { entry, items } of foldersBelow(tree, top, tenantTops.mail)) {
    missing.goOn();
    missing.looked += items.length;
    const state = folderState(entry);
    const now = state && live.get(state.path);
    const same = now?.modseq !== undefined && now.modseq === state?.modseq && now.state.uidValidity === state.uidValidity;
    if (same) {
      read.add(now.path);
      for (const item of items) there.add(keyOf(item));
    } else doubtful.push(...items);
  }
  if (!doubtful.length) return;
  for (const folder of live.values()) {
    if (!folder.opens || read.has(folder.path)) continue;
    missing.goOn();
    const lock = await client.getMailboxLock(folder.path, { readOnly: true });
    try {
      for (const key of (await messagesThere(client)).keys()) there.add(key);
    } finally {
      lock.release();
    }
  }
  for (const item of doubtful) if (!there.has(keyOf(item))) missing.tell(item, 'gone');
}

const keyOf = ({ entry }: Stored): string => {
  const facts = itemFacts(entry);
  return facts?.type === 'message' ? messageKey({ id: facts.id, at: facts.at, size: entry.size }) : '';
};

async function missingTitled(missing: Missing, client: DavClient, kind: Collections, tree: ReadableTree, top: TreeEntry): Promise<void> {
  const live = (await collectionsOf(client).catch(noneYet)).filter((c) => c.kind === kind).map((c) => c.item.href);
  for await (const { entry, items } of foldersBelow(tree, top, tenantTops[kind])) {
    missing.goOn();
    missing.looked += items.length;
    const href = folderState(entry)?.path;
    if (!items.length) continue;
    const listed = href !== undefined && live.includes(href) ? (await client.propfind(href, 1, '<d:getetag/><d:resourcetype/>')).items : [];
    const now = new Map(listed.map((i) => [i.href, i]));
    const changed: (Stored & { readonly href: string })[] = [];
    for (const item of items) {
      const facts = itemFacts(item.entry);
      if (!facts || !('etag' in facts)) continue;
      const there = now.get(facts.href);
      if (!there) missing.tell(item, 'gone');
      else if (there.etag !== facts.etag) changed.push({ ...item, href: facts.href });
    }
    for (let at = 0; at < changed.length; at += atOnce) {
      missing.goOn();
      const part = changed.slice(at, at + atOnce);
      const texts = await multiget(
        client,
        kind,
        href!,
        part.map((c) => c.href),
      );
      for (const item of part) {
        const then = (await storedBytes({ tree, entry: item.entry })).toString('utf8');
        const own = texts.get(item.href)?.data ?? '';
        if (own !== '' && !sameMeaning(then, own)) missing.tell(item, 'changed', ...differing(then, own));
      }
    }
  }
}

const compared = ['dtstart', 'dtend', 'summary', 'location', 'rrule', 'fn', 'email', 'tel'] as const;
/** The first value in which two differ, as it was and as it is. */
function differing(then: string, now: string): [string, string] {
  for (const name of compared) {
    const [a, b] = [valueOf(then, name), valueOf(now, name)];
    if (a !== b) return [a, b];
  }
  return ['', ''];
}

async function missingFiles(missing: Missing, client: DavClient, tree: ReadableTree, top: TreeEntry, name: string): Promise<void> {
  for await (const { path, entry, items } of foldersBelow(tree, top, name)) {
    missing.goOn();
    missing.looked += items.length;
    if (!items.length) continue;
    const href = path === name ? client.root : (folderState(entry)?.path ?? '');
    const listed = await listFolder(client, href).catch(noneYet);
    const now = new Map(listed.map((i) => [i.href, i]));
    for (const item of items) {
      const facts = itemFacts(item.entry);
      if (facts?.type !== 'file') continue;
      const there = now.get(facts.href);
      if (!there) missing.tell(item, 'gone');
      else if (there.etag !== facts.etag || there.size !== item.entry.size) missing.tell(item, 'changed');
    }
  }
}

/**
 * What a member had at a point and has no more, or has otherwise: told apart by what it is, so that what was only moved is not missing.
 * @param about words that all have to be in what is known of an item; '' for everything
 * @param tops folders at the top of the point that are looked at; none for all
 */
export async function missingItems(
  point: OpenPoint,
  { server, member }: TenantFrom,
  about: string,
  tops: readonly string[],
  stopped: () => boolean,
): Promise<MissingItems> {
  if (!member) throw new SourceError('TENANT_GONE', 'nobody is named');
  const tree = treeOf(point.store);
  const missing = new Missing(about.trim(), stopped);
  const entries = point.top.folder ? await tree.trees.folder(point.top.folder.node) : [];
  const find = (top: string) => (tops.length === 0 || tops.includes(top) ? entries.find((e) => e.name === top) : undefined);
  const mail = find(tenantTops.mail);
  if (mail)
    await missing.service(tenantTops.mail, async () => {
      const client = await openMailbox(server, member);
      try {
        await missingMail(missing, client, tree, mail);
      } finally {
        await closeMailbox(client);
      }
    });
  for (const kind of ['calendars', 'contacts'] as const) {
    const top = find(tenantTops[kind]);
    if (!top) continue;
    await missing.service(tenantTops[kind], async () => {
      const client = openGroupware(server, member, stopped);
      try {
        await missingTitled(missing, client, kind, tree, top);
      } finally {
        await client.close();
      }
    });
  }
  for (const name of [tenantTops.drive, tenantTops.files]) {
    const top = find(name);
    if (!top) continue;
    await missing.service(name, async () => {
      const client = openDrive(server, member, stopped);
      try {
        await missingFiles(missing, client, tree, top, name);
      } finally {
        await client.close();
      }
    });
  }
  return missing.answer;
}

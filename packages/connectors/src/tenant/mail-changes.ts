import { grouped } from '@lithodex/core';
import type { TreeEntry } from '@lithodex/engine';
import { tenantTops } from '@lithodex/kinds';
import type { ImapFlow } from 'imapflow';
import type { ReadableTree } from '../readable-tree';
import { foldersOf } from './capture-mail';
import { foldersBelow, foldersIn, type ChangesTold, type StoredItem } from './changes-told';
import type { FieldChange } from './item-fields';
import { folderState, itemFacts } from './item-facts';
import { uidSet } from './mail-folder';
import { messageKey, messagesThere } from './messages-there';

interface Placed {
  readonly folder: string;
  readonly uid: number;
  readonly flags: readonly string[];
  /** It is one of the point. */
  taken: boolean;
}
interface Doubtful extends StoredItem {
  /** Where it was, as the server names it. */
  readonly was: string;
}

const keyOf = ({ entry }: StoredItem): string => {
  const facts = itemFacts(entry);
  return facts?.type === 'message' ? messageKey({ id: facts.id, at: facts.at, size: entry.size }) : '';
};

const flagWords = (flags: readonly string[]) => flags.map((f) => f.replace(/^\\/, '').toLowerCase()).join(', ') || 'none';

/** Messages of a point beside those of now, wherever in the mailbox they are. `path`: the folder of the point that `top` is. */
export async function mailChanges(told: ChangesTold, client: ImapFlow, tree: ReadableTree, top: TreeEntry, path: string): Promise<void> {
  const live = new Map((await foldersOf(client)).map((f) => [f.path, f]));
  const there = new Map<string, Placed[]>();
  const put = (key: string, placed: Placed) => {
    const known = there.get(key);
    if (known) known.push(placed);
    else there.set(key, [placed]);
  };
  const doubtful: Doubtful[] = [];
  const unchanged = new Set<string>();
  const scope = new Set<string>();
  for await (const { entry, items } of foldersBelow(tree, top, path)) {
    told.goOn();
    told.looked += items.length;
    const state = folderState(entry);
    const now = state && live.get(state.path);
    if (state) scope.add(state.path);
    if (now?.modseq !== undefined && now.modseq === state?.modseq && now.state.uidValidity === state.uidValidity) {
      unchanged.add(now.path);
      for (const item of items) put(keyOf(item), { folder: now.path, uid: 0, flags: [], taken: true });
    } else doubtful.push(...items.map((item) => ({ ...item, was: state?.path ?? '' })));
  }
  // nothing of it may have moved, but something new may lie in a folder that nobody knew
  const isNew = (folder: string) => told.whole && path === tenantTops.mail && !scope.has(folder);
  for (const folder of live.values()) {
    if (!folder.opens || unchanged.has(folder.path) || !(doubtful.length || isNew(folder.path))) continue;
    told.goOn();
    const lock = await client.getMailboxLock(folder.path, { readOnly: true });
    try {
      for (const [key, messages] of await messagesThere(client))
        for (const { uid, flags } of messages) put(key, { folder: folder.path, uid, flags, taken: false });
    } finally {
      lock.release();
    }
  }
  for (const item of doubtful) tellMessage(told, item, there.get(keyOf(item)) ?? []);
  if (told.whole) await tellNew(told, client, there, (folder) => scope.has(folder) || isNew(folder));
}

function tellMessage(told: ChangesTold, item: Doubtful, all: readonly Placed[]): void {
  const free = all.filter((p) => !p.taken);
  const found = free.find((p) => p.folder === item.was) ?? free[0];
  if (found) found.taken = true;
  if (!told.whole) {
    // what was only moved, or is there a second time, is not missing
    if (!all.length) told.tell(item, 'gone');
    return;
  }
  if (!found) {
    told.tell(item, 'gone');
    return;
  }
  const facts = itemFacts(item.entry);
  const flags = facts?.type === 'message' ? facts.flags : [];
  const differs: FieldChange[] = [];
  if (found.folder !== item.was) differs.push({ what: 'Folder', was: foldersIn(item.path).join(' / '), now: found.folder });
  if (flagWords([...flags].sort()) !== flagWords([...found.flags].sort()))
    differs.push({ what: 'Marked', was: flagWords(flags), now: flagWords(found.flags) });
  if (differs.length) told.tell(item, 'changed', differs);
}

async function tellNew(
  told: ChangesTold,
  client: ImapFlow,
  there: ReadonlyMap<string, readonly Placed[]>,
  inScope: (folder: string) => boolean,
): Promise<void> {
  const added = [...there.values()].flat().filter(({ folder, taken }) => !taken && inScope(folder));
  const query = { uid: true, envelope: true, size: true, internalDate: true };
  for (const [folder, placed] of grouped(added, (p) => p.folder)) {
    told.goOn();
    const uids = uidSet(placed.map((p) => p.uid).sort((x, y) => x - y));
    const lock = await client.getMailboxLock(folder, { readOnly: true });
    try {
      for await (const m of client.fetch(uids, query, { uid: true })) {
        const [from] = m.envelope?.from ?? [];
        const at = m.internalDate ? new Date(m.internalDate).getTime() : null;
        told.tellAdded({
          type: 'message',
          label: m.envelope?.subject ?? 'no subject',
          about: from?.name ?? from?.address ?? '',
          folder,
          at,
          size: m.size ?? 0,
        });
      }
    } finally {
      lock.release();
    }
  }
}

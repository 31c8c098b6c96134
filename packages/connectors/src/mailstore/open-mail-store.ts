import { joinPath, mailStoreFolder } from '@lithodex/core';
import { EngineError, type TreeEntry } from '@lithodex/engine';
import { tenantTops, type FoundMailStore } from '@lithodex/kinds';
import { InsideTree } from '../inside/inside-tree';
import type { ReadableTree } from '../readable-tree';
import { dboxBoxes, isDbox } from './dbox-layout';
import { MailStoreSystem } from './mail-store-system';
import { isMaildir, maildirBoxes } from './maildir-layout';
import { isMbox, mboxBoxes } from './mbox-layout';
import { folderThere, type FolderThere, type KeptMailbox, type MailStoreLayout } from './stored-mailbox';

/** Names of folders in which mailboxes of one file lie. */
const mboxFolder = /^(mail|mbox|mails|spool|.*\.mboxes)$/i;
const filesTried = 20;
const mostBoxes = 10_000;

/** How the mail store in a folder is laid out; undefined for none. */
export async function layoutOf({ tree, entry, children }: FolderThere): Promise<MailStoreLayout | undefined> {
  if (isMaildir(children)) return 'Maildir';
  if (isDbox(children)) return 'dbox';
  if (!mboxFolder.test(entry.name)) return undefined;
  for (const child of [...children.values()].slice(0, filesTried)) if (await isMbox(tree, child)) return 'mbox';
  return undefined;
}

const boxesOf: Readonly<Record<MailStoreLayout, (folder: FolderThere) => AsyncGenerator<KeptMailbox>>> = {
  Maildir: (folder) => maildirBoxes(folder),
  dbox: dboxBoxes,
  mbox: mboxBoxes,
};

/** The mail store in a folder as a tree of mailboxes with their messages, like that of a point of a mailbox. Throws PATH_MISSING where there is none. */
export async function openMailStore(tree: ReadableTree, entry: TreeEntry): Promise<InsideTree> {
  const folder = await folderThere(tree, entry);
  const layout = await layoutOf(folder);
  if (!layout) throw new EngineError('PATH_MISSING', 'there is no mail store');
  const boxes: KeptMailbox[] = [];
  for await (const box of boxesOf[layout](folder)) if (boxes.push(box) >= mostBoxes) break;
  const open = () => Promise.resolve(new MailStoreSystem(boxes));
  return new InsideTree(
    [{ name: tenantTops.mail, type: `mail store, ${layout}`, label: '', size: 0, blocks: undefined, why: '', open }],
    mailStoreFolder,
  );
}

/** Where no mail is kept. */
const passedBy =
  /^(proc|sys|dev|run|usr|lib|lib64|bin|sbin|boot|snap|node_modules|cur|new|tmp|Windows|Program Files.*|\$.*|lost\+found|\.git)$/;
const [mostDepth, mostFolders, mostStores, mostMs] = [9, 30_000, 200, 20_000];

/** Mail stores below a folder, found by how they are laid out: within bounds of depth, number and time. */
export async function mailStoresBelow(tree: ReadableTree, top: TreeEntry): Promise<{ stores: FoundMailStore[]; whole: boolean }> {
  const stores: FoundMailStore[] = [];
  const until = performance.now() + mostMs;
  let waiting: { entry: TreeEntry; path: string; depth: number }[] = [{ entry: top, path: '', depth: 0 }];
  let looked = 0;
  // nearer ones first: what is deep is rarely looked for
  while (waiting.length) {
    const next: typeof waiting = [];
    for (const { entry, path, depth } of waiting) {
      if (++looked > mostFolders || stores.length >= mostStores || performance.now() > until) return { stores, whole: false };
      const folder = await folderThere(tree, entry).catch(() => undefined);
      if (!folder) continue;
      const layout = await layoutOf(folder).catch(() => undefined);
      if (layout) {
        stores.push({ path, layout });
        continue;
      }
      if (depth >= mostDepth) continue;
      for (const [name, child] of folder.children)
        if (child.kind === 'folder' && !child.unread && !passedBy.test(name))
          next.push({ entry: child, path: joinPath(path, name), depth: depth + 1 });
    }
    waiting = next;
  }
  return { stores, whole: true };
}

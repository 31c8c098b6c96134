import type { TreeEntry } from '@lithodex/engine';
import { fileContent } from '../file-content';
import type { ReadableTree } from '../readable-tree';

/** A message as a mail store keeps it. */
export interface KeptMessage {
  /** When it came, ms. */
  readonly at: number;
  /** As IMAP calls them. */
  readonly flags: readonly string[];
  /** Its bytes, as they are kept: lines may end as files have them. */
  bytes(): Promise<Buffer>;
}

/** A folder of a mail store with what is right in it. */
export interface KeptMailbox {
  /** Names from the outermost folder on. */
  readonly folders: readonly string[];
  messages(): AsyncGenerator<KeptMessage>;
}

/** How a mail store is laid out, in words. */
export type MailStoreLayout = 'Maildir' | 'mbox' | 'dbox';

/** A folder in a tree, and its children by name. */
export interface FolderThere {
  readonly tree: ReadableTree;
  readonly entry: TreeEntry;
  readonly children: ReadonlyMap<string, TreeEntry>;
}

export async function folderThere(tree: ReadableTree, entry: TreeEntry): Promise<FolderThere> {
  const children = entry.folder && !entry.unread ? await tree.trees.folder(entry.folder.node) : [];
  return { tree, entry, children: new Map(children.map((c) => [c.name, c])) };
}

/** Files of more bytes are not taken for messages. */
export const mostMessage = 256 << 20;

/** Bytes of a file, all of them or those from `from` to before `to`, which may lie behind its end. */
export async function bytesBetween(tree: ReadableTree, entry: TreeEntry, from = 0, to = entry.size): Promise<Buffer> {
  const parts: Buffer[] = [];
  for await (const part of fileContent(tree, entry, from, Math.min(to, entry.size))) parts.push(Buffer.from(part));
  return Buffer.concat(parts);
}

import type { TreeEntry } from '@lithodex/engine';
import type { ReadableTree } from '../readable-tree';
import { folderWords } from './folder-words';
import { bytesBetween, folderThere, mostMessage, type FolderThere, type KeptMailbox, type KeptMessage } from './stored-mailbox';

/** What stands before a message, and before what is known of it. */
const [messageMark, factsMark] = [Buffer.from('\x01\x02'), Buffer.from('\n\x01\x03\n')];
const mostHead = 256;
const mostFacts = 16 << 10;
const mostDepth = 12;

export const isDbox = (names: { has(name: string): boolean }): boolean => names.has('mailboxes') && !names.has('cur');

interface Slice {
  readonly from: number;
  readonly size: number;
  /** What is known of it, by letter: R when it came, B the mailbox it first came to. */
  readonly facts: ReadonlyMap<string, string>;
}

/** The messages of a file, one after the other: each after a head that says its size in hexadecimal, with what is known of it behind. */
async function* slicesOf(tree: ReadableTree, entry: TreeEntry): AsyncGenerator<Slice> {
  const head = (await bytesBetween(tree, entry, 0, mostHead)).toString('latin1');
  const [line, size] = /^\d+ (?:[A-Z]\S* )*?M([0-9a-f]+)[^\n]*\n/.exec(head) ?? [];
  const headBytes = parseInt(size ?? '', 16);
  if (line === undefined || !(headBytes > 0 && headBytes <= mostHead)) return;
  for (let at = line.length; at + headBytes <= entry.size;) {
    const own = await bytesBetween(tree, entry, at, at + headBytes);
    if (!own.subarray(0, 2).equals(messageMark)) return;
    const length = parseInt(/([0-9a-fA-F]{16})\s*$/.exec(own.toString('latin1'))?.[1] ?? '', 16);
    const from = at + headBytes;
    if (!(length >= 0) || from + length > entry.size) return;
    const behind = await bytesBetween(tree, entry, from + length, from + length + mostFacts);
    if (!behind.subarray(0, factsMark.length).equals(factsMark)) return;
    const end = behind.indexOf('\n\n', factsMark.length - 1);
    if (end < 0) return;
    const lines = behind.toString('utf8', factsMark.length, end).split('\n');
    yield { from, size: length, facts: new Map(lines.filter(Boolean).map((l) => [l[0]!, l.slice(1)])) };
    at = from + length + end + 2;
  }
}

async function* messagesIn(tree: ReadableTree, file: TreeEntry, wanted?: string): AsyncGenerator<KeptMessage> {
  if (file.kind !== 'file' || file.unread) return;
  for await (const { from, size, facts } of slicesOf(tree, file)) {
    if (size > mostMessage || (wanted !== undefined && (facts.get('B') ?? 'INBOX') !== wanted)) continue;
    const received = parseInt(facts.get('R') ?? '', 16) * 1000;
    const at = Number.isFinite(received) ? received : Number(file.mtimeNs / 1_000_000n);
    yield { at, flags: [], bytes: () => bytesBetween(tree, file, from, from + size) };
  }
}

/** Names of the mailboxes: folders that hold one with messages or a log. */
async function* named(
  tree: ReadableTree,
  entry: TreeEntry,
  above: readonly string[],
  depth = 0,
): AsyncGenerator<{ folders: readonly string[]; own: FolderThere }> {
  const { children } = await folderThere(tree, entry);
  for (const [name, child] of children) {
    if (child.kind !== 'folder' || name === 'dbox-Mails' || depth >= mostDepth) continue;
    const own = await folderThere(tree, child);
    const mails = own.children.get('dbox-Mails');
    if (mails) yield { folders: [...above, name], own: await folderThere(tree, mails) };
    yield* named(tree, child, [...above, name], depth + 1);
  }
}

/**
 * Mailboxes whose messages lie in files of their own (sdbox), or many in one file together (mdbox), where what was deleted stays until the server cleans up. How messages
 * were marked stands in logs of the server, which are not read.
 */
export async function* dboxBoxes({ tree, children }: FolderThere): AsyncGenerator<KeptMailbox> {
  const storage = children.get('storage');
  const shared = storage ? [...(await folderThere(tree, storage)).children].filter(([name]) => /^m\.\d+$/.test(name)) : [];
  for await (const { folders, own } of named(tree, children.get('mailboxes')!, [])) {
    const messages = async function* (): AsyncGenerator<KeptMessage> {
      for (const [name, file] of own.children) if (/^u\.\d+$/.test(name)) yield* messagesIn(tree, file);
      for (const [, file] of shared) yield* messagesIn(tree, file, folders.join('/'));
    };
    yield { folders: folders.map(folderWords), messages };
  }
}

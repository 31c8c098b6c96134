import type { TreeEntry } from '@lithodex/engine';
import { fileContent } from '../file-content';
import type { ReadableTree } from '../readable-tree';
import { folderWords } from './folder-words';
import { bytesBetween, mostMessage, type FolderThere, type KeptMailbox, type KeptMessage } from './stored-mailbox';

const begin = Buffer.from('From ');
const separator = Buffer.from('\n\nFrom ');
const flagOf: Readonly<Record<string, string>> = { R: '\\Seen', A: '\\Answered', F: '\\Flagged', T: '\\Draft', D: '\\Deleted' };

/** Whether a file is a mailbox of one file (mbox). */
export async function isMbox(tree: ReadableTree, entry: TreeEntry): Promise<boolean> {
  if (entry.kind !== 'file' || entry.unread || entry.size < 40) return false;
  return (await bytesBetween(tree, entry, 0, begin.length)).equals(begin);
}

/** Where messages begin: at their line that begins with "From ", after an empty one. */
async function startsOf(tree: ReadableTree, entry: TreeEntry): Promise<number[]> {
  const starts = [0];
  let carried = Buffer.alloc(0);
  let at = 0;
  for await (const part of fileContent(tree, entry)) {
    const text = Buffer.concat([carried, part]);
    for (let found = text.indexOf(separator); found >= 0; found = text.indexOf(separator, found + 1))
      starts.push(at - carried.length + found + 2);
    at += part.length;
    carried = Buffer.from(text.subarray(Math.max(0, text.length - separator.length + 1)));
  }
  return starts;
}

/** When it came, as the line before a message says (RFC 4155); 0 where it says nothing that is known. */
function timeIn(line: string): number {
  const at = Date.parse(`${line.replace(/^From \S+\s+/, '').trim()} UTC`);
  return Number.isFinite(at) ? at : 0;
}

async function* messagesIn(tree: ReadableTree, entry: TreeEntry): AsyncGenerator<KeptMessage> {
  const starts = await startsOf(tree, entry);
  for (const [i, start] of starts.entries()) {
    const end = starts[i + 1] ?? entry.size;
    if (end - start > mostMessage) continue;
    const whole = async () => {
      const text = (await bytesBetween(tree, entry, start, end)).toString('latin1');
      const body = text.slice(text.indexOf('\n') + 1).replace(/\n\r?\n?$/, '\n');
      return { line: text.slice(0, Math.max(0, text.indexOf('\n'))), body: body.replace(/^>(>*From )/gm, '$1') };
    };
    const { line, body } = await whole();
    const head = body.slice(0, body.search(/\r?\n\r?\n/) + 1 || undefined);
    // what a program of mailboxes keeps for itself
    if (/^Subject: DON'T DELETE THIS MESSAGE/m.test(head)) continue;
    const letters = [...head.matchAll(/^(?:X-)?Status:[ \t]*([A-Z]*)/gm)].map((m) => m[1]).join('');
    const flags = [...new Set(letters.split('').flatMap((letter) => flagOf[letter] ?? []))];
    yield { at: timeIn(line), flags, bytes: async () => Buffer.from((await whole()).body, 'latin1') };
  }
}

/** Every mailbox of one file in a folder, under the name of its file. */
export async function* mboxBoxes({ tree, children }: FolderThere): AsyncGenerator<KeptMailbox> {
  for (const [name, entry] of children)
    if (await isMbox(tree, entry))
      yield { folders: [folderWords(name.replace(/\.mbox$/i, '')) || 'INBOX'], messages: () => messagesIn(tree, entry) };
}

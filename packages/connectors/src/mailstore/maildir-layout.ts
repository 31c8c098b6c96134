import { folderWords } from './folder-words';
import { bytesBetween, folderThere, mostMessage, type FolderThere, type KeptMailbox, type KeptMessage } from './stored-mailbox';

const flagOf: Readonly<Record<string, string>> = { D: '\\Draft', F: '\\Flagged', R: '\\Answered', S: '\\Seen', T: '\\Deleted' };
const mostDepth = 12;
const mostKeywords = 64 << 10;

export const isMaildir = (names: { has(name: string): boolean }): boolean => names.has('cur') && names.has('new');

/** Words of one's own that stand as small letters in names of messages: a number and a word a line. */
async function keywordsOf({ tree, children }: FolderThere): Promise<ReadonlyMap<string, string>> {
  const file = children.get('dovecot-keywords');
  if (!file || file.size > mostKeywords) return new Map();
  const lines = (await bytesBetween(tree, file)).toString('utf8').split('\n');
  return new Map(
    lines.flatMap((line) => {
      const [, no, word] = /^(\d{1,2}) ([A-Za-z0-9$_.-]{1,100})$/.exec(line) ?? [];
      return word !== undefined && Number(no) < 26 ? [[String.fromCharCode(97 + Number(no)), word] as const] : [];
    }),
  );
}

async function* messagesIn(folder: FolderThere): AsyncGenerator<KeptMessage> {
  const { tree, children } = folder;
  const keywords = await keywordsOf(folder);
  for (const part of ['cur', 'new']) {
    const entry = children.get(part);
    if (!entry?.folder || entry.unread) continue;
    for await (const piece of tree.trees.pieces(entry.folder.node))
      for (const file of piece) {
        if (file.kind !== 'file' || file.unread || file.size > mostMessage || file.name.startsWith('.')) continue;
        const letters = /:2,([A-Za-z]*)/.exec(file.name)?.[1] ?? '';
        const flags = letters.split('').flatMap((letter) => flagOf[letter] ?? keywords.get(letter) ?? []);
        yield { at: Number(file.mtimeNs / 1_000_000n), flags, bytes: () => bytesBetween(tree, file) };
      }
  }
}

/** Mailboxes of folders and files (Maildir): folders below the mailbox stand in it, with a dot before their names or in folders of their own. */
export async function* maildirBoxes(top: FolderThere, above: readonly string[] = [], depth = 0): AsyncGenerator<KeptMailbox> {
  yield { folders: above.length ? above : ['INBOX'], messages: () => messagesIn(top) };
  if (depth >= mostDepth) return;
  for (const [name, entry] of top.children) {
    if (entry.kind !== 'folder' || ['cur', 'new', 'tmp', '.', '..'].includes(name)) continue;
    const below = await folderThere(top.tree, entry);
    if (!isMaildir(below.children)) continue;
    const folders = name.startsWith('.') ? name.slice(1).split('.').map(folderWords) : [folderWords(name)];
    yield* maildirBoxes(below, [...above, ...folders], depth + 1);
  }
}

import { joinPath, objectNameOf, bytesOfText } from '@lithodex/core';
import type { TreeEntry } from '@lithodex/engine';
import { itemFacts } from './item-facts';

const letters: Readonly<Record<string, string>> = { '\\Draft': 'D', '\\Flagged': 'F', '\\Answered': 'R', '\\Seen': 'S', '\\Deleted': 'T' };

/** Where a message stands in a mailbox of folders and files (Maildir, folders below it with a dot before and dots in between). Undefined for what is no message. */
export interface MaildirPlace {
  /** Byte string, with the name of the mailbox in front. */
  readonly folder: string;
  readonly name: string;
}

/** @param path byte string below the top folder of mail: folders, and the name of the message */
export function maildirPlace(mailbox: string, path: string, entry: TreeEntry): MaildirPlace | undefined {
  const facts = itemFacts(entry);
  if (facts?.type !== 'message') return undefined;
  const folders = path.split('/').slice(0, -1).map(objectNameOf);
  const own = folders.length === 1 && folders[0]?.toUpperCase() === 'INBOX' ? [] : folders;
  // a dot parts folders, so it stands in none of their names
  const folder = own.map((name) => name.replace(/[./\0]/g, '_')).join('.');
  const flags = facts.flags
    .flatMap((f) => letters[f] ?? [])
    .sort()
    .join('');
  const name = `${Math.floor(facts.at / 1000)}.M${facts.at % 1000}P${facts.uid}_${facts.sum.slice(0, 16)}.lithodex,S=${entry.size}:2,${flags}`;
  return { folder: folder === '' ? mailbox : joinPath(mailbox, bytesOfText(`.${folder}`)), name };
}

/** Folders that make a mailbox of files one. */
export const maildirFolders = ['cur', 'new', 'tmp'] as const;

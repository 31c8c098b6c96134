import { createHash } from 'node:crypto';
import { itemFlags, type ItemFacts } from '@lithodex/contract';
import type { TreeEntry } from '@lithodex/engine';

/** 16 bytes that stand for the content of a file, as hex; '' for none. */
export function contentOf(e: TreeEntry): string {
  const names = e.content && ('lists' in e.content ? e.content.lists : e.content.names);
  if (!names?.length) return '';
  return (names.length === 32 ? names.subarray(0, 16) : createHash('sha256').update(names).digest().subarray(0, 16)).toString('hex');
}

/** What the catalog keeps of an entry. */
export function factsOf(e: TreeEntry): ItemFacts {
  const content = contentOf(e);
  const link = e.linkTarget === undefined ? '' : createHash('sha256').update(e.linkTarget, 'latin1').digest('hex').slice(0, 32);
  return {
    kind: e.kind,
    size: e.folder ? e.folder.bytes : e.size,
    mtimeNs: String(e.mtimeNs),
    mode: e.mode,
    uid: e.uid,
    gid: e.gid,
    items: e.folder?.items ?? 0,
    flags: (e.unread ? itemFlags.unread : 0) | (e.random ? itemFlags.random : 0) | (e.torn ? itemFlags.torn : 0),
    content: content || link,
  };
}

/** The same of an entry inside a disk, whose content is told by where it is and when it was written. */
export function factsInside(e: TreeEntry): ItemFacts {
  const facts = factsOf(e);
  if (e.kind !== 'file') return facts;
  const seen = `${e.inode} ${e.size} ${e.mtimeNs} ${e.ctimeNs}`;
  return { ...facts, content: createHash('sha256').update(seen).digest('hex').slice(0, 32) };
}

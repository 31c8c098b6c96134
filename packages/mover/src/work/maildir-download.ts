import {
  everythingBelow,
  fileContent,
  maildirFolders,
  maildirPlace,
  tarEnd,
  tarHeader,
  tarPadding,
  type FoundItem,
} from '@lithodex/connectors';
import { joinPath, mailPathOf, mailStoreOn } from '@lithodex/core';
import type { TreeEntry } from '@lithodex/engine';

interface Picked extends Pick<FoundItem, 'tree' | 'entry'> {
  /** Where it lies in its point, byte string. */
  readonly path: string;
}

const nobody = { owner: '', group: '' };
const plain = (kind: 'folder' | 'file', name: string, size: number, mtimeNs: bigint): TreeEntry =>
  ({ kind, name, size, mtimeNs, mode: kind === 'folder' ? 0o700 : 0o600, uid: 0, gid: 0 }) as TreeEntry;

/** All messages of what was picked as a mailbox of folders and files, in a tar archive. */
export async function* maildirParts(
  picked: readonly Picked[],
  seen: (entry: TreeEntry, bytes: number) => void,
  skipped: (path: string, why: string) => void,
): AsyncGenerator<Buffer> {
  const made = new Set<string>();
  const folder = function* (path: string, mtimeNs: bigint): Generator<Buffer> {
    if (made.has(path)) return;
    made.add(path);
    for (const one of [path, ...maildirFolders.map((name) => joinPath(path, name))])
      yield tarHeader(one, plain('folder', '', 0, mtimeNs), nobody)!;
  };
  for (const { tree, entry: top, path: from } of picked)
    for await (const { path, entry } of everythingBelow(tree, top, from)) {
      if (entry.kind !== 'file') continue;
      const below = (mailPathOf(path, !mailStoreOn(path)) ?? '').split('/').slice(1).join('/');
      const place = entry.unread ? undefined : maildirPlace('Maildir', below, entry);
      if (place) {
        // the mailbox itself first: its folders stand in it
        yield* folder('Maildir', entry.mtimeNs);
        yield* folder(place.folder, entry.mtimeNs);
        yield tarHeader(joinPath(joinPath(place.folder, 'cur'), place.name), plain('file', place.name, entry.size, entry.mtimeNs), nobody)!;
        yield* fileContent(tree, entry);
        yield tarPadding(entry.size);
      } else skipped(path, 'a mailbox of files holds messages only');
      seen(entry, entry.size);
    }
  yield tarEnd;
}

import { ByteWriter } from '../format/byte-io';
import { writeContent, writeEntry, type Content, type ContentList, type FolderRef, type TreeEntry } from './tree-entry';

/** First byte of a node: entries, or a list of pieces. */
export const nodeKind = { leaf: 0, list: 1 } as const;
const pieceEntries = 4096;
const pieceBytes = 1 << 20;
const directNames = 256;
const namesPerList = 16384;

/** Stores what `put` is given and returns its name; see {@link ChunkWriter.put}. */
export type PutChunk = (data: Uint8Array) => Buffer;

/** FNV-1a of a name: decides where a large folder is cut, so that a change moves only the cut beside it. */
function nameHash(name: string): number {
  let h = 0x811c9dc5;
  for (let i = 0; i < name.length; i++) h = Math.imul(h ^ name.charCodeAt(i), 0x01000193);
  return h >>> 0;
}

/** Stores one folder from its entries, which must be sorted by name. */
export function writeFolder(put: PutChunk, entries: readonly TreeEntry[]): FolderRef {
  const pieces: { first: string; count: number; node: Buffer }[] = [];
  let items = 0;
  let bytes = 0;
  for (let from = 0; from < entries.length || pieces.length === 0;) {
    const w = new ByteWriter();
    let to = from;
    const body = new ByteWriter();
    while (to < entries.length) {
      const e = entries[to]!;
      writeEntry(body, e);
      items += 1 + (e.folder?.items ?? 0);
      bytes += e.size + (e.folder?.bytes ?? 0);
      to++;
      if ((nameHash(e.name) & 0x3ff) === 0 || to - from >= pieceEntries || body.length >= pieceBytes) break;
    }
    w.u8(nodeKind.leaf);
    w.varint(to - from);
    w.bytes(body.take());
    pieces.push({ first: entries[from]?.name ?? '', count: to - from, node: put(w.take()) });
    from = to;
  }
  if (pieces.length === 1) return { node: pieces[0]!.node, items, bytes };
  const list = new ByteWriter();
  list.u8(nodeKind.list);
  list.varint(pieces.length);
  for (const piece of pieces) {
    list.text(piece.first);
    list.varint(piece.count);
    list.bytes(piece.node);
  }
  return { node: put(list.take()), items, bytes };
}

/** Content as an entry holds it: short lists directly, long ones through list chunks. */
export function storeContent(put: PutChunk, content: Content): Content | ContentList {
  const count = content.lengths.length;
  if (count <= directNames) return content;
  const lists: Buffer[] = [];
  for (let from = 0; from < count; from += namesPerList) {
    const w = new ByteWriter();
    const to = Math.min(count, from + namesPerList);
    writeContent(w, { names: content.names.subarray(from * 32, to * 32), lengths: content.lengths.slice(from, to) });
    lists.push(put(w.take()));
  }
  return { lists: Buffer.concat(lists), count };
}

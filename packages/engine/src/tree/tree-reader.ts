import { safeParts } from '@lithodex/core';
import { EngineError } from '../errors';
import { ByteReader, ByteWriter } from '../format/byte-io';
import type { ChunkReader } from '../store/chunk-reader';
import { EntryCursor } from './entry-cursor';
import { readContent, readEntry, writeEntry, type Content, type ContentList, type TreeEntry } from './tree-entry';
import { nodeKind } from './tree-writer';

/** Reads folders, paths and contents of a stored tree. */
export class TreeReader {
  constructor(private readonly chunks: Pick<ChunkReader, 'read'>) {}

  /** Entries of a folder in pieces, sorted by name. */
  async *pieces(node: Buffer): AsyncGenerator<TreeEntry[]> {
    for await (const { entries } of this.nodes(node)) if (entries.length) yield entries;
  }

  /** The nodes of a folder with the entries each holds. */
  async *nodes(node: Buffer): AsyncGenerator<{ node: Buffer; entries: TreeEntry[] }> {
    const { leaf, list } = await this.node(node);
    yield { node, entries: leaf ?? [] };
    for (const piece of list) yield { node: piece.node, entries: (await this.node(piece.node)).leaf ?? [] };
  }

  /** The same as cursors over the stored bytes, for what has to be fast. */
  async *cursors(node: Buffer): AsyncGenerator<EntryCursor> {
    const open = async (name: Buffer) => {
      const data = await this.chunks.read(name);
      const r = new ByteReader(data);
      return r.u8() === nodeKind.leaf ? new EntryCursor(data, r, r.varint()) : undefined;
    };
    const leaf = await open(node);
    if (leaf) yield leaf;
    else
      for (const piece of (await this.node(node)).list) {
        const part = await open(piece.node);
        if (part) yield part;
      }
  }

  private async node(name: Buffer): Promise<{ leaf?: TreeEntry[]; list: { first: string; node: Buffer }[] }> {
    const data = await this.chunks.read(name);
    try {
      const r = new ByteReader(data);
      const kind = r.u8();
      const count = r.varint();
      if (kind === nodeKind.leaf) return { leaf: Array.from({ length: count }, () => readEntry(r)), list: [] };
      const list = Array.from({ length: count }, () => {
        const first = r.text();
        r.varint();
        return { first, node: Buffer.from(r.bytes(32)) };
      });
      return { list };
    } catch (error) {
      throw new EngineError('TREE_DAMAGED', name.toString('hex').slice(0, 16), { cause: error });
    }
  }

  /** All entries of a folder. */
  async folder(node: Buffer): Promise<TreeEntry[]> {
    const all: TreeEntry[] = [];
    for await (const piece of this.pieces(node)) all.push(...piece);
    return all;
  }

  private async child(node: Buffer, name: string): Promise<TreeEntry | undefined> {
    const { leaf, list } = await this.node(node);
    if (leaf) return leaf.find((e) => e.name === name);
    let at = 0;
    while (at + 1 < list.length && list[at + 1]!.first <= name) at++;
    const piece = list[at];
    return piece && this.child(piece.node, name);
  }

  /** Entry at a byte-string path below `root`; the root itself for ''. Throws PATH_MISSING. */
  async find(root: TreeEntry, path: string): Promise<TreeEntry> {
    let at = root;
    for (const part of safeParts(path) ?? ['']) {
      const next = at.folder && (await this.child(at.folder.node, part));
      if (!next) throw new EngineError('PATH_MISSING', path);
      at = next;
    }
    return at;
  }

  /** Chunk names and lengths of a file, in parts that stay small. */
  async *contentParts(content: Content | ContentList | undefined): AsyncGenerator<Content> {
    if (!content) return;
    if ('names' in content) {
      yield content;
      return;
    }
    for (let at = 0; at < content.lists.length; at += 32) {
      yield readContent(new ByteReader(await this.chunks.read(content.lists.subarray(at, at + 32))));
    }
  }
}

/** The top folder of a point as an entry, from its root. */
export function topEntry(root: { readonly top: string }): TreeEntry {
  return readEntry(new ByteReader(Buffer.from(root.top, 'base64')));
}

/** Inverse of {@link topEntry}. */
export function encodeTop(entry: TreeEntry): string {
  const w = new ByteWriter();
  writeEntry(w, entry);
  return w.take().toString('base64');
}

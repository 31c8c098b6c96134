import { byName, ByteWriter, EngineError, nodeKind, TreeReader, writeEntry, type Content, type TreeEntry } from '@lithodex/engine';
import type { FileSystem, ItemDetail, Volume, VolumeItem } from '@lithodex/volumes';
import type { ReadableTree } from '../readable-tree';
import { insideName, insideNameBytes, placeOf } from './inside-names';

/** Content is read in pieces of this size, in bytes, larger ones where a file would have too many. */
const usualPiece = 1 << 20;
const mostPieces = 4096;
/** Bytes of one piece at most: what a file of a terabyte needs is not held at once. */
const largestPiece = 1 << 28;
const foldersKept = 4;

/** The row of a folder inside a disk, before anything is asked of it. */
export interface InsideRow {
  readonly item: VolumeItem;
  /** What it is, where that is more than its kind: the file system of a volume. */
  readonly about: string;
}

const plainFolder = { kind: 'folder', size: 0, mtimeNs: 0n, ctimeNs: 0n, mode: 0o755, uid: 0, gid: 0, linked: false } as const;
/** The folder of the volumes themselves. */
const volumesFolder = 0xffff;

/**
 * The volumes of a disk and what is in their file systems as a tree like a stored one: folders and contents have names that say where they are, and are read when they are asked for.
 * A folder that is reached a second time from elsewhere is shown as not read, so that damage can't make a tree without end.
 */
export class InsideTree implements ReadableTree {
  readonly trees: TreeReader;
  readonly chunks = { read: (name: Buffer) => this.read(name) };
  readonly top: TreeEntry;
  private readonly systems = new Map<number, Promise<FileSystem>>();
  private readonly parents = new Map<string, number>();
  /** Rows of the folders asked for last: people turn their pages. */
  private readonly listed = new Map<string, Promise<InsideRow[]>>();

  constructor(
    private readonly volumes: readonly Volume[],
    name: string,
  ) {
    this.trees = new TreeReader(this.chunks);
    const { linked, ...plain } = plainFolder;
    this.top = { ...plain, name, inode: 0, folder: this.folderRef(volumesFolder, 0) };
  }

  async isChunk(name: Buffer, data: Buffer): Promise<boolean> {
    return (await this.read(name)).equals(data);
  }

  private folderRef(volume: number, key: number): TreeEntry['folder'] {
    return { node: insideName({ what: 'folder', volume, key, offset: 0, length: 0 }), items: 0, bytes: 0 };
  }

  private system(volume: number): Promise<FileSystem> {
    const known = this.systems.get(volume);
    if (known) return known;
    const open = this.volumes[volume]?.open;
    if (!open) throw new EngineError('PATH_MISSING', 'no such volume');
    const opened = open();
    this.systems.set(volume, opened);
    opened.catch(() => this.systems.delete(volume));
    return opened;
  }

  private async read(name: Buffer): Promise<Buffer> {
    const { what, volume, key, offset, length } = placeOf(name);
    if (what === 'folder') return this.node(volume, key);
    return (await this.system(volume)).read(key, offset, length);
  }

  /** Rows of a folder, by name, without what takes more reading. */
  async rows(folder: TreeEntry): Promise<InsideRow[]> {
    if (!folder.folder) throw new EngineError('PATH_MISSING', 'no folder');
    const { volume, key } = placeOf(folder.folder.node);
    const id = `${volume} ${key}`;
    const known = this.listed.get(id);
    if (known) return known;
    const listing = this.sortedRows(volume, key);
    this.listed.set(id, listing);
    listing.catch(() => this.listed.delete(id));
    for (const oldest of this.listed.keys()) {
      if (this.listed.size <= foldersKept) break;
      this.listed.delete(oldest);
    }
    return listing;
  }

  private async sortedRows(volume: number, key: number): Promise<InsideRow[]> {
    const rows = volume === volumesFolder ? await this.volumeRows() : await this.itemRows(volume, key);
    return rows.sort((a, b) => byName(a.item, b.item));
  }

  private async volumeRows(): Promise<InsideRow[]> {
    return Promise.all(
      this.volumes.map(async ({ name, type, label, why }, number): Promise<InsideRow> => {
        const about = [type, label && `“${label}”`].filter(Boolean).join(' ');
        if (why) return { item: { ...plainFolder, name, key: 0, unread: why }, about };
        try {
          const top = await (await this.system(number)).top();
          return { item: { ...top, name }, about };
        } catch (error) {
          return { item: { ...plainFolder, name, key: 0, unread: (error as Error).message }, about };
        }
      }),
    );
  }

  private async itemRows(volume: number, key: number): Promise<InsideRow[]> {
    const rows: InsideRow[] = [];
    const names = new Set<string>();
    const system = await this.system(volume);
    for await (const piece of system.list(key))
      for (const item of piece) {
        if (item.name === '' || item.name === '.' || item.name === '..' || /[/\0]/.test(item.name) || names.has(item.name)) continue;
        names.add(item.name);
        rows.push({ item: item.kind === 'folder' && !item.unread ? this.once(volume, key, item) : item, about: '' });
      }
    return rows;
  }

  private once(volume: number, parent: number, item: VolumeItem): VolumeItem {
    const id = `${volume} ${item.key}`;
    const known = this.parents.get(id) ?? parent;
    this.parents.set(id, known);
    return known === parent && item.key !== parent
      ? item
      : { ...item, unread: 'the folder is reached from another one as well: the file system is damaged' };
  }

  private async node(volume: number, key: number): Promise<Buffer> {
    const isTop = volume === volumesFolder;
    const rows = await this.sortedRows(volume, key);
    const w = new ByteWriter();
    w.u8(nodeKind.leaf);
    w.varint(rows.length);
    for (const { item } of rows)
      writeEntry(w, await this.entry(isTop ? this.volumes.findIndex((v) => v.name === item.name) : volume, item, isTop));
    return Buffer.from(w.take());
  }

  private async entry(volume: number, item: VolumeItem, isVolume: boolean): Promise<TreeEntry> {
    let detail: ItemDetail = {};
    let { unread } = item;
    if (!isVolume && !unread)
      try {
        detail = await (await this.system(volume)).detail(item);
      } catch (error) {
        unread = (error as Error).message;
      }
    const { name, kind, key, size, mtimeNs, ctimeNs, mode, uid, gid, linked, device } = item;
    const { ranges, linkTarget, attributes } = detail;
    const common = { name, kind, mode, uid, gid, mtimeNs, ctimeNs, inode: key, size };
    if (unread !== undefined) return { ...common, unread: true };
    return {
      ...common,
      ...(device !== undefined && { device }),
      ...(linkTarget !== undefined && { linkTarget }),
      ...(attributes && { attributes }),
      ...(linked && { hardId: `${volume}-${key}` }),
      ...(kind === 'folder' && { folder: this.folderRef(volume, key) }),
      ...(kind === 'file' && size > 0 && { ...(ranges && { ranges }), content: contentAt(volume, key, ranges ?? [[0, size]]) }),
    };
  }
}

/** Names of the pieces of a file, which say where they are. */
function contentAt(volume: number, key: number, ranges: readonly (readonly [number, number])[]): Content {
  const held = ranges.reduce((sum, [, length]) => sum + length, 0);
  const piece = Math.min(largestPiece, Math.max(usualPiece, Math.ceil(held / mostPieces / usualPiece) * usualPiece));
  const lengths: number[] = [];
  const names: Buffer[] = [];
  for (const [start, total] of ranges)
    for (let offset = start; offset < start + total; offset += piece) {
      const length = Math.min(piece, start + total - offset);
      names.push(insideName({ what: 'data', volume, key, offset, length }));
      lengths.push(length);
    }
  return { names: Buffer.concat(names, names.length * insideNameBytes), lengths };
}

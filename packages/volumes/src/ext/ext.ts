import { CachedBlocks, dataRanges, readRuns, type Blocks, type Run } from '../blocks';
import { asDamage, damaged, VolumeError } from '../errors';
import { Recent, type FileSystem, type ItemDetail, type VolumeItem } from '../file-system';
import { unixItem } from '../unix-inode';
import { attributesOf, inlineRest } from './attributes';
import { contentField, readInode, runsOf, type Inode } from './inode';
import { replayed } from './journal';
import { extLayout, type ExtLayout } from './superblock';

const topInode = 2;
const piece = 1 << 18;

interface OpenFile {
  readonly inode: Inode;
  readonly runs: readonly Run[];
  /** Content that lies in the inode. */
  readonly inline: Buffer | undefined;
}

/** ext2, ext3 and ext4. What a journal still holds is seen as if it had been put in place. */
export class ExtFileSystem implements FileSystem {
  private readonly files: Recent<OpenFile>;

  private constructor(
    private readonly disk: Blocks,
    private readonly layout: ExtLayout,
  ) {
    this.files = new Recent(64, (key) => this.openFile(key));
  }

  /** Throws DISK_DAMAGED or NOT_READ. */
  static async open(blocks: Blocks): Promise<ExtFileSystem> {
    try {
      const disk = new CachedBlocks(blocks);
      const layout = await extLayout(disk);
      if (!layout.dirty || layout.journal === 0) return new ExtFileSystem(disk, layout);
      const journal = await readInode(disk, layout, layout.journal);
      if (!journal) throw damaged('journal');
      const after = await replayed(disk, layout.blockSize, await runsOf(disk, layout, journal));
      return new ExtFileSystem(after, await extLayout(after));
    } catch (error) {
      throw asDamage(error, 'ext');
    }
  }

  async top(): Promise<VolumeItem> {
    return this.item('', await this.inode(topInode));
  }

  private async inode(number: number): Promise<Inode> {
    const inode = await readInode(this.disk, this.layout, number);
    if (!inode) throw damaged(`inode ${number}`);
    return inode;
  }

  private async openFile(key: number): Promise<OpenFile> {
    const inode = await this.inode(key);
    if (inode.inline) return { inode, runs: [], inline: await this.inlineContent(inode) };
    return { inode, runs: await runsOf(this.disk, this.layout, inode), inline: undefined };
  }

  private async inlineContent(inode: Inode): Promise<Buffer> {
    const rest = (await attributesOf(this.disk, this.layout, inode)).find(([name]) => name === inlineRest)?.[1];
    return Buffer.concat([contentField(inode), rest ?? Buffer.alloc(0)]).subarray(0, inode.size);
  }

  private item(name: string, inode: Inode): VolumeItem {
    const item = unixItem(name, inode, () => inode.device);
    return inode.encrypted ? { ...item, unread: 'it is encrypted by the file system' } : item;
  }

  async *list(folder: number): AsyncGenerator<VolumeItem[]> {
    try {
      const { inode, runs, inline } = await this.files.get(folder);
      if (inode.kind !== 'folder') throw new VolumeError('NOT_THERE', 'no folder');
      if (inode.encrypted) throw new VolumeError('NOT_READ', 'names that are encrypted by the file system');
      if (inline) {
        // the number of the folder above, then entries to the end of the inode, then those that follow it
        yield await this.items([...this.entries(inline.subarray(4, 60)), ...this.entries(inline.subarray(60))]);
        return;
      }
      const { blockSize } = this.layout;
      for (const run of runs)
        for (let at = 0; at < run.length && run.offset + at < inode.size; at += piece) {
          const data = await this.disk.read(run.at + at, Math.min(piece, run.length - at));
          const found: { name: string; inode: number }[] = [];
          for (let from = 0; from < data.length; from += blockSize) found.push(...this.entries(data.subarray(from, from + blockSize)));
          yield await this.items(found);
        }
    } catch (error) {
      throw asDamage(error, 'folder');
    }
  }

  private *entries(block: Buffer): Generator<{ name: string; inode: number }> {
    for (let at = 0; at + 8 <= block.length;) {
      const inode = block.readUInt32LE(at);
      const stored = block.readUInt16LE(at + 4);
      const length = stored === 0 || stored === 65_535 ? 65_536 : stored;
      const nameLength = this.layout.typed ? block[at + 6]! : block.readUInt16LE(at + 6);
      if (length < 8 || at + Math.min(length, 8 + nameLength) > block.length) throw damaged('entry of a folder');
      if (inode !== 0 && nameLength > 0 && nameLength + 8 <= length) {
        const name = block.toString('latin1', at + 8, at + 8 + nameLength);
        if (name !== '.' && name !== '..') yield { name, inode };
      }
      at += length;
    }
  }

  private async items(found: readonly { name: string; inode: number }[]): Promise<VolumeItem[]> {
    const items: VolumeItem[] = [];
    for (const { name, inode: number } of found) {
      const inode = await readInode(this.disk, this.layout, number);
      if (inode) items.push(this.item(name, inode));
    }
    return items;
  }

  async detail(item: VolumeItem): Promise<ItemDetail> {
    try {
      const { inode, runs, inline } = await this.files.get(item.key);
      const attributes = (await attributesOf(this.disk, this.layout, inode)).filter(([name]) => name !== inlineRest);
      return {
        ...(attributes.length && { attributes }),
        ...(inode.kind === 'link' && { linkTarget: await this.linkTarget(inode) }),
        ...(inode.kind === 'file' && !inline && { ranges: dataRanges(runs, inode.size) }),
      };
    } catch (error) {
      throw asDamage(error, 'inode');
    }
  }

  private async linkTarget(inode: Inode): Promise<string> {
    if (inode.size > 65_536) throw damaged('target of a link');
    const here = inode.size < 60 && !inode.extents;
    return (here ? contentField(inode).subarray(0, inode.size) : await this.read(inode.number, 0, inode.size)).toString('latin1');
  }

  async read(file: number, offset: number, length: number): Promise<Buffer> {
    try {
      const { runs, inline } = await this.files.get(file);
      return inline ? inline.subarray(offset, offset + length) : await readRuns(this.disk, runs, offset, length);
    } catch (error) {
      throw asDamage(error, 'file');
    }
  }
}

import { CachedBlocks, dataRanges, readRuns, type Blocks, type Run } from '../blocks';
import { asDamage, damaged, VolumeError } from '../errors';
import { Recent, type FileSystem, type ItemDetail, type VolumeItem } from '../file-system';
import { u64be } from '../number-at';
import { unixItem } from '../unix-inode';
import { xfsAttributes } from './attributes';
import { deviceOf, forkRuns, localOf, readXfsInode, type XfsInode } from './inode';
import { xfsLayout, type XfsLayout } from './layout';

interface OpenFile {
  readonly inode: XfsInode;
  readonly runs: readonly Run[];
}

/** Where a folder stops being entries and begins to be what finds them. */
const entriesEnd = 2 ** 35;
/** Front of a block of the target of a link, where structures carry sums. */
const linkHeader = 56;

/** XFS, versions 4 and 5. What its log still holds is not put in place: of a disk taken while in use the newest moments may be missing. */
export class XfsFileSystem implements FileSystem {
  private readonly files: Recent<OpenFile>;

  private constructor(
    private readonly disk: Blocks,
    private readonly layout: XfsLayout,
  ) {
    this.files = new Recent(64, async (key) => {
      const inode = await this.inode(key);
      return { inode, runs: await forkRuns(this.disk, this.layout, inode.content) };
    });
  }

  static async open(blocks: Blocks): Promise<XfsFileSystem> {
    try {
      const disk = new CachedBlocks(blocks);
      return new XfsFileSystem(disk, await xfsLayout(disk));
    } catch (error) {
      throw asDamage(error, 'XFS');
    }
  }

  async top(): Promise<VolumeItem> {
    return itemOf('', await this.inode(this.layout.topInode));
  }

  private async inode(number: number): Promise<XfsInode> {
    const inode = await readXfsInode(this.disk, this.layout, number);
    if (!inode) throw damaged(`inode ${number}`);
    return inode;
  }

  async *list(folder: number): AsyncGenerator<VolumeItem[]> {
    try {
      const { inode, runs } = await this.files.get(folder);
      if (inode.kind !== 'folder') throw new VolumeError('NOT_THERE', 'no folder');
      const local = localOf(inode.content);
      if (local) {
        yield await this.items(this.shortEntries(local));
        return;
      }
      const { folderBlockSize } = this.layout;
      const end = Math.min(entriesEnd, inode.size);
      let next = 0;
      for (const run of runs)
        // a block of a folder may lie in several places: it is read with its first part
        for (let at = Math.max(next, run.offset); at < run.offset + run.length && at < end; at += folderBlockSize) {
          at -= at % folderBlockSize;
          next = at + folderBlockSize;
          yield await this.items(this.entries(await readRuns(this.disk, runs, at, folderBlockSize)));
        }
    } catch (error) {
      throw asDamage(error, 'folder');
    }
  }

  private *shortEntries(data: Buffer): Generator<{ name: string; inode: number }> {
    const wide = data.readUInt8(1) > 0;
    let at = wide ? 10 : 6;
    for (let n = data.readUInt8(0); n > 0; n--) {
      const length = data.readUInt8(at);
      const name = data.toString('latin1', at + 3, at + 3 + length);
      at += 3 + length + (this.layout.typed ? 1 : 0);
      yield { name, inode: wide ? u64be(data, at) : data.readUInt32BE(at) };
      at += wide ? 8 : 4;
    }
  }

  private *entries(block: Buffer): Generator<{ name: string; inode: number }> {
    const magic = block.toString('latin1', 0, 4);
    const whole = magic === 'XD2B' || magic === 'XDB3';
    if (!whole && magic !== 'XD2D' && magic !== 'XDD3') throw damaged('block of a folder');
    const tail = whole ? block.length - 8 - block.readUInt32BE(block.length - 8) * 8 : block.length;
    for (let at = this.layout.sums ? 64 : 16; at + 8 <= tail;) {
      if (block.readUInt16BE(at) === 0xffff) {
        const length = block.readUInt16BE(at + 2);
        if (length < 8) throw damaged('block of a folder');
        at += length;
        continue;
      }
      const length = block.readUInt8(at + 8);
      const name = block.toString('latin1', at + 9, at + 9 + length);
      if (name !== '.' && name !== '..' && name !== '') yield { name, inode: u64be(block, at) };
      at += (9 + length + (this.layout.typed ? 1 : 0) + 2 + 7) & ~7;
    }
  }

  private async items(found: Iterable<{ name: string; inode: number }>): Promise<VolumeItem[]> {
    const items: VolumeItem[] = [];
    for (const { name, inode: number } of found) {
      const inode = await readXfsInode(this.disk, this.layout, number);
      if (inode) items.push(itemOf(name, inode));
    }
    return items;
  }

  async detail(item: VolumeItem): Promise<ItemDetail> {
    try {
      const { inode, runs } = await this.files.get(item.key);
      const attributes = await xfsAttributes(this.disk, this.layout, inode.attributes);
      return {
        ...(attributes.length && { attributes }),
        ...(inode.kind === 'link' && { linkTarget: await this.linkTarget(inode, runs) }),
        ...(inode.kind === 'file' && { ranges: dataRanges(runs, inode.size) }),
      };
    } catch (error) {
      throw asDamage(error, 'inode');
    }
  }

  private async linkTarget(inode: XfsInode, runs: readonly Run[]): Promise<string> {
    if (inode.size > 1024) throw damaged('target of a link');
    const local = localOf(inode.content);
    if (local) return local.toString('latin1', 0, inode.size);
    const { blockSize, sums } = this.layout;
    let target = '';
    for (let block = 0; target.length < inode.size; block++) {
      const data = await readRuns(this.disk, runs, block * blockSize, blockSize);
      target += data.toString('latin1', sums ? linkHeader : 0, Math.min(blockSize, (sums ? linkHeader : 0) + inode.size - target.length));
    }
    return target;
  }

  async read(file: number, offset: number, length: number): Promise<Buffer> {
    try {
      const { inode, runs } = await this.files.get(file);
      const local = localOf(inode.content);
      return local ? local.subarray(offset, offset + length) : await readRuns(this.disk, runs, offset, length);
    } catch (error) {
      throw asDamage(error, 'file');
    }
  }
}

const itemOf = (name: string, inode: XfsInode): VolumeItem => unixItem(name, inode, () => deviceOf(inode));

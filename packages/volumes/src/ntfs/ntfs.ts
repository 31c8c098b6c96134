import type { Blocks } from '../blocks';
import { asDamage, damaged, VolumeError } from '../errors';
import { Recent, type FileSystem, type ItemDetail, type VolumeItem } from '../file-system';
import { utf16Name } from '../number-at';
import { MasterTable, partsOf, type FileOfTable } from './master-table';
import { attributeType, referenceAt, withFixups, type Attribute } from './record';
import { reparseOf } from './reparse';
import { NtfsStream } from './stream';

const topRecord = 5;
/** Records below belong to the file system itself. */
const firstOwn = 24;
const dosName = 2;
/** A stream is known by the record of its file and the id of its attribute. */
const idsPerFile = 65_536;
const epoch = 116_444_736_000_000_000n;

const timeNs = (data: Buffer, at: number): bigint => (data.readBigInt64LE(at) - epoch) * 100n;

/** NTFS. Further streams of a file are shown beside it, as `name:stream`. Rights are not taken along: they mean nothing elsewhere. */
export class NtfsFileSystem implements FileSystem {
  private readonly streams: Recent<NtfsStream>;
  private readonly opened: Recent<FileOfTable>;

  private constructor(private readonly table: MasterTable) {
    this.opened = new Recent(256, (number) => table.file(number));
    this.streams = new Recent(64, (key) => this.stream(key));
  }

  static async open(blocks: Blocks): Promise<NtfsFileSystem> {
    try {
      return new NtfsFileSystem(await MasterTable.open(blocks));
    } catch (error) {
      throw asDamage(error, 'NTFS');
    }
  }

  /** The name the volume was given. */
  async label(): Promise<string> {
    try {
      const { attributes } = await this.table.file(3);
      return (await this.table.value(partsOf(attributes, attributeType.volumeName, ''))).toString('utf16le');
    } catch (error) {
      throw asDamage(error, 'name of the volume');
    }
  }

  async top(): Promise<VolumeItem> {
    const [item] = await this.items('', topRecord);
    if (!item) throw damaged('top folder');
    return item;
  }

  private async stream(key: number): Promise<NtfsStream> {
    const { attributes } = await this.opened.get(Math.floor(key / idsPerFile));
    const wanted = attributes.find((a) => a.type === attributeType.data && a.id === key % idsPerFile && a.firstVcn === 0);
    if (!wanted) throw new VolumeError('NOT_THERE');
    return new NtfsStream(this.table.disk, this.table.clusterSize, partsOf(attributes, attributeType.data, wanted.name));
  }

  async *list(folder: number): AsyncGenerator<VolumeItem[]> {
    try {
      const number = Math.floor(folder / idsPerFile);
      const { record, attributes } = await this.opened.get(number);
      if (!record.isFolder) throw new VolumeError('NOT_THERE', 'no folder');
      const [root] = partsOf(attributes, attributeType.indexRoot, '$I30');
      if (!root?.resident) throw damaged('folder');
      yield await this.named(entriesOf(root.resident, 16), number);
      const blocks = partsOf(attributes, attributeType.indexAllocation, '$I30');
      if (blocks.length) yield* this.indexBlocks(blocks, await this.table.value(partsOf(attributes, attributeType.bitmap, '$I30')), number);
    } catch (error) {
      throw asDamage(error, 'folder');
    }
  }

  private async *indexBlocks(parts: readonly Attribute[], used: Buffer, folder: number): AsyncGenerator<VolumeItem[]> {
    const { indexSize, disk, clusterSize } = this.table;
    const content = new NtfsStream(disk, clusterSize, parts);
    const count = Math.min(Math.floor(parts[0]!.size / indexSize), used.length * 8);
    for (let n = 0; n < count; n++) {
      if (!((used[n >> 3]! >> (n & 7)) & 1)) continue;
      const block = withFixups(await content.read(n * indexSize, indexSize), 'INDX');
      yield await this.named(entriesOf(block, 24), folder);
    }
  }

  private async named(entries: Iterable<{ name: string; number: number }>, folder: number): Promise<VolumeItem[]> {
    const items: VolumeItem[] = [];
    for (const { name, number } of entries) if (number >= firstOwn && number !== folder) items.push(...(await this.items(name, number)));
    return items;
  }

  /** A file and its further streams as items. */
  private async items(name: string, number: number): Promise<VolumeItem[]> {
    let file: FileOfTable;
    try {
      file = await this.table.file(number);
      if (!file.record.inUse) return [];
      return this.describe(name, file);
    } catch (error) {
      // one damaged record takes no folder with it
      const told = asDamage(error, `record ${number}`);
      if (!(told instanceof VolumeError)) throw error;
      const none = { size: 0, mtimeNs: 0n, ctimeNs: 0n, mode: 0, uid: 0, gid: 0, linked: false };
      return [{ name, kind: 'file', key: number * idsPerFile, ...none, unread: told.message }];
    }
  }

  private describe(name: string, { record, attributes }: FileOfTable): VolumeItem[] {
    const standard = attributes.find((a) => a.type === attributeType.standard)?.resident;
    if (!standard) throw damaged(`record ${record.number}`);
    const readOnly = (standard.readUInt32LE(32) & 1) !== 0;
    const reparse = attributes.find((a) => a.type === attributeType.reparse);
    const leads = reparse?.resident ? reparseOf(reparse.resident) : undefined;
    const names = attributes.filter((a) => a.type === attributeType.name && a.resident?.[65] !== dosName).length;
    const common = {
      mtimeNs: timeNs(standard, 8),
      ctimeNs: timeNs(standard, 16),
      mode: (record.isFolder || leads?.target !== undefined ? 0o755 : 0o644) & (readOnly && !record.isFolder ? 0o555 : 0o777),
      uid: 0,
      gid: 0,
      linked: false,
    };
    const firsts = attributes.filter((a) => a.type === attributeType.data && a.firstVcn === 0);
    const main = firsts.find((a) => a.name === '');
    const keyOf = (a: Attribute | undefined) => record.number * idsPerFile + (a?.id ?? 0);
    const why = (a: Attribute | undefined) => leads?.unread ?? (a?.encrypted ? 'it is encrypted by the file system' : undefined);
    const unread = why(main);
    const kind = leads?.target !== undefined ? 'link' : record.isFolder ? 'folder' : 'file';
    const size = kind === 'file' ? (main?.size ?? 0) : 0;
    const item: VolumeItem = {
      ...common,
      name,
      kind,
      key: keyOf(kind === 'file' ? main : undefined),
      size,
      linked: kind === 'file' && names > 1,
      ...(unread && { unread }),
    };
    if (name === '') return [item];
    const further = firsts.filter((a) => a.name !== '' && !leads);
    return [
      item,
      ...further.map((a): VolumeItem => ({
        ...common,
        name: `${name}:${utf16Name(Buffer.from(a.name, 'utf16le'))}`,
        kind: 'file',
        key: keyOf(a),
        size: a.size,
        ...(why(a) && { unread: why(a) }),
      })),
    ];
  }

  async detail(item: VolumeItem): Promise<ItemDetail> {
    try {
      if (item.unread) return {};
      if (item.kind === 'file' && item.size) return { ranges: (await this.streams.get(item.key)).ranges };
      if (item.kind !== 'link') return {};
      const { attributes } = await this.opened.get(Math.floor(item.key / idsPerFile));
      const reparse = attributes.find((a) => a.type === attributeType.reparse)?.resident;
      return { linkTarget: (reparse && reparseOf(reparse).target) ?? '' };
    } catch (error) {
      throw asDamage(error, 'file');
    }
  }

  async read(file: number, offset: number, length: number): Promise<Buffer> {
    try {
      return await (await this.streams.get(file)).read(offset, length);
    } catch (error) {
      throw asDamage(error, 'file');
    }
  }
}

/** Names of a node of an index, those of the old short form left out. */
function* entriesOf(node: Buffer, headerAt: number): Generator<{ name: string; number: number }> {
  const end = Math.min(node.length, headerAt + node.readUInt32LE(headerAt + 4));
  for (let at = headerAt + node.readUInt32LE(headerAt); at + 16 <= end;) {
    const length = node.readUInt16LE(at + 8);
    if (node.readUInt32LE(at + 12) & 2) return;
    if (length < 16 || at + length > end) throw damaged('entry of a folder');
    if (node.readUInt16LE(at + 10) >= 66 && node[at + 16 + 65] !== dosName) {
      const from = at + 16 + 66;
      const text = node.subarray(from, from + node[at + 16 + 64]! * 2);
      yield { name: utf16Name(text), number: referenceAt(node, at) };
    }
    at += length;
  }
}

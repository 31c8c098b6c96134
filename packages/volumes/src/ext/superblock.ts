import { checkPlace, type Blocks } from '../blocks';
import { damaged, VolumeError } from '../errors';
import { textAt } from '../number-at';

/** Layout after the kernel's documentation of ext4 (Documentation/filesystems/ext4). */
export const extMagic = 0xef53;

const incompat = {
  compression: 0x1,
  filetype: 0x2,
  recover: 0x4,
  journalDevice: 0x8,
  metaBlockGroups: 0x10,
  bits64: 0x80,
  known: 0x1 | 0x2 | 0x4 | 0x10 | 0x40 | 0x80 | 0x100 | 0x200 | 0x400 | 0x2000 | 0x4000 | 0x8000 | 0x10000 | 0x20000,
};

export interface ExtLayout {
  readonly blockSize: number;
  readonly blocks: number;
  readonly inodes: number;
  readonly inodesPerGroup: number;
  readonly inodeSize: number;
  /** Folder entries name the type of what they lead to. */
  readonly typed: boolean;
  /** The journal holds changes that are not in their places yet. */
  readonly dirty: boolean;
  readonly journal: number;
  /** Block of the inode table of a group. */
  inodeTable(group: number): Promise<number>;
}

/** Reads the superblock and tells where inodes are. Throws NOT_READ for a feature that changes how things lie. */
export async function extLayout(disk: Blocks): Promise<ExtLayout> {
  const sb = await disk.read(1024, 1024);
  if (sb.readUInt16LE(56) !== extMagic) throw damaged('no superblock');
  const features = sb.readUInt32LE(96);
  if (features & incompat.journalDevice) throw new VolumeError('NOT_READ', 'the journal of another file system');
  if (features & ~incompat.known || features & incompat.compression)
    throw new VolumeError('NOT_READ', `features 0x${(features & (~incompat.known | 1)).toString(16)} of the file system`);
  const logBlock = sb.readUInt32LE(24);
  if (logBlock > 6) throw damaged('size of blocks');
  const blockSize = 1024 << logBlock;
  const wide = (features & incompat.bits64) !== 0;
  const blocks = sb.readUInt32LE(4) + (wide ? sb.readUInt32LE(0x150) * 2 ** 32 : 0);
  const revision = sb.readUInt32LE(76);
  const inodeSize = revision === 0 ? 128 : sb.readUInt16LE(88);
  const inodesPerGroup = sb.readUInt32LE(40);
  const blocksPerGroup = sb.readUInt32LE(32);
  const firstBlock = sb.readUInt32LE(20);
  if (inodeSize < 128 || inodeSize > blockSize || inodesPerGroup === 0 || blocksPerGroup === 0) throw damaged('superblock');
  const descriptorSize = wide ? Math.max(32, sb.readUInt16LE(0xfe)) : 32;
  if (descriptorSize > blockSize) throw damaged('size of group descriptors');
  const perBlock = Math.floor(blockSize / descriptorSize);
  const firstMeta = features & incompat.metaBlockGroups ? sb.readUInt32LE(0x104) : Infinity;
  const sparseSuper = (sb.readUInt32LE(100) & 1) !== 0;
  const groups = Math.ceil((blocks - firstBlock) / blocksPerGroup);
  const hasSuper = (group: number) => !sparseSuper || group <= 1 || [3, 5, 7].some((base) => isPower(group, base));
  const descriptorBlock = (meta: number) => {
    if (meta < firstMeta) return firstBlock + 1 + meta;
    const group = meta * perBlock;
    return firstBlock + group * blocksPerGroup + (hasSuper(group) ? 1 : 0);
  };
  return {
    blockSize,
    blocks,
    inodes: Math.min(sb.readUInt32LE(0), groups * inodesPerGroup),
    inodesPerGroup,
    inodeSize,
    typed: (features & incompat.filetype) !== 0,
    dirty: (features & incompat.recover) !== 0,
    journal: sb.readUInt32LE(0xe0),
    async inodeTable(group) {
      if (group >= groups) throw damaged('number of a group');
      const at = descriptorBlock(Math.floor(group / perBlock)) * blockSize + (group % perBlock) * descriptorSize;
      checkPlace(disk, at, descriptorSize);
      const descriptor = await disk.read(at, descriptorSize);
      return descriptor.readUInt32LE(8) + (wide && descriptorSize >= 64 ? descriptor.readUInt32LE(0x28) * 2 ** 32 : 0);
    },
  };
}

function isPower(value: number, base: number): boolean {
  let power = base;
  while (power < value) power *= base;
  return power === value;
}

/** What a superblock says without being opened; undefined where there is none. */
export function extSigns(front: Buffer): { type: string; label: string; size: number } | undefined {
  if (front.length < 2048 || front.readUInt16LE(1024 + 56) !== extMagic) return undefined;
  const sb = front.subarray(1024);
  const logBlock = sb.readUInt32LE(24);
  if (logBlock > 6) return undefined;
  const features = sb.readUInt32LE(96);
  const type = features & 0x40 ? 'ext4' : sb.readUInt32LE(92) & 4 ? 'ext3' : 'ext2';
  const blocks = sb.readUInt32LE(4) + (features & incompat.bits64 ? sb.readUInt32LE(0x150) * 2 ** 32 : 0);
  return { type, label: textAt(sb, 120, 16), size: blocks * (1024 << logBlock) };
}

import type { Blocks } from '../blocks';
import { damaged, VolumeError } from '../errors';
import { textAt, u64be } from '../number-at';

/** Layout after "XFS Algorithms & Data Structures"; big-endian. */
export interface XfsLayout {
  readonly blockSize: number;
  readonly folderBlockSize: number;
  readonly inodeSize: number;
  /** Version 5: structures carry sums and longer headers. */
  readonly sums: boolean;
  /** Folder entries name the type of what they lead to. */
  readonly typed: boolean;
  readonly topInode: number;
  /** Where a block of the file system lies, in bytes. */
  blockAt(block: number): number;
  /** Where an inode lies, in bytes. */
  inodeAt(number: number): number;
}

const incompat = { typed: 1, known: 1 | 2 | 4 | 8 | 16 | 32 };

/** What a superblock says; undefined where there is none. */
export function xfsSigns(front: Buffer): { type: string; label: string; size: number } | undefined {
  if (front.length < 512 || front.toString('latin1', 0, 4) !== 'XFSB') return undefined;
  return { type: 'XFS', label: textAt(front, 108, 12), size: u64be(front, 8) * front.readUInt32BE(4) };
}

/** Throws DISK_DAMAGED, or NOT_READ for a feature that changes how things lie. */
export async function xfsLayout(disk: Blocks): Promise<XfsLayout> {
  const sb = await disk.read(0, 512);
  if (!xfsSigns(sb)) throw damaged('no superblock');
  const version = sb.readUInt16BE(100) & 15;
  const features = version === 5 ? sb.readUInt32BE(216) : 0;
  if (features & ~incompat.known)
    throw new VolumeError('NOT_READ', `features 0x${(features & ~incompat.known).toString(16)} of the file system`);
  const blockSize = sb.readUInt32BE(4);
  const groupBlocks = sb.readUInt32BE(84);
  const groups = sb.readUInt32BE(88);
  const inodeSize = sb.readUInt16BE(104);
  const [perBlockLog, groupLog, folderLog] = [sb[123]!, sb[124]!, sb[192]!];
  const isPowerOf2 = (n: number, least: number, most: number) => n >= least && n <= most && Number.isInteger(Math.log2(n));
  const fits = isPowerOf2(blockSize, 512, 65_536) && isPowerOf2(inodeSize, 256, 4096) && blockSize * 2 ** folderLog <= 65_536;
  if (!fits || groupLog > 32 || blockSize / inodeSize !== 2 ** perBlockLog || groups === 0) throw damaged('superblock');
  const blockAt = (block: number) => {
    const group = Math.floor(block / 2 ** groupLog);
    const within = block % 2 ** groupLog;
    if (group >= groups || within >= groupBlocks) throw damaged(`block ${block}`);
    return (group * groupBlocks + within) * blockSize;
  };
  return {
    blockSize,
    folderBlockSize: blockSize * 2 ** folderLog,
    inodeSize,
    sums: version === 5,
    typed: version === 5 ? (features & incompat.typed) !== 0 : (sb.readUInt32BE(200) & 0x200) !== 0,
    topInode: u64be(sb, 56),
    blockAt,
    inodeAt: (number) => blockAt(Math.floor(number / 2 ** perBlockLog)) + (number % 2 ** perBlockLog) * inodeSize,
  };
}

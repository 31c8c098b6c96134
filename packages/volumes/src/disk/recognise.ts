import type { Blocks } from '../blocks';
import { extSigns } from '../ext/superblock';
import { ExtFileSystem } from '../ext/ext';
import { exfatSigns, ExfatFileSystem } from '../fat/exfat';
import { fatSigns, FatFileSystem } from '../fat/fat';
import type { FileSystem } from '../file-system';
import { textAt } from '../number-at';
import { ntfsSigns } from '../ntfs/master-table';
import { NtfsFileSystem } from '../ntfs/ntfs';
import { xfsSigns } from '../xfs/layout';
import { XfsFileSystem } from '../xfs/xfs';

/** What a volume holds. */
export interface Recognised {
  /** Name of the format, in words. */
  readonly type: string;
  readonly label: string;
  /** Opens it; undefined for what is not read. */
  readonly open?: () => Promise<FileSystem>;
}

interface FileSystemKind {
  readonly signs: (front: Buffer) => { readonly type: string; readonly label: string } | undefined;
  readonly open: (blocks: Blocks) => Promise<FileSystem>;
  /** Where its name does not stand at its front. */
  readonly label?: (blocks: Blocks) => Promise<string>;
}

/** The more particular ones first: a FAT is known by little. */
const fileSystems: readonly FileSystemKind[] = [
  { signs: ntfsSigns, open: (b) => NtfsFileSystem.open(b), label: async (b) => (await NtfsFileSystem.open(b)).label() },
  { signs: exfatSigns, open: (b) => ExfatFileSystem.open(b) },
  { signs: xfsSigns, open: (b) => XfsFileSystem.open(b) },
  { signs: extSigns, open: (b) => ExtFileSystem.open(b) },
  { signs: fatSigns, open: (b) => FatFileSystem.open(b) },
];

const at = (offset: number, text: string) => (front: Buffer) => front.toString('latin1', offset, offset + text.length) === text;
/** What is named and not read. */
const others: readonly (readonly [(front: Buffer) => boolean, string])[] = [
  [at(0, 'LUKS\xba\xbe'), 'encrypted volume (LUKS)'],
  [at(3, '-FVE-FS-'), 'encrypted volume (BitLocker)'],
  [at(4086, 'SWAPSPACE2'), 'swap space'],
  [at(0x10040, '_BHRfS_M'), 'Btrfs'],
  [at(4096, '\xfc\x4e\x2b\xa9'), 'member of a software RAID'],
  [at(0, '\xfc\x4e\x2b\xa9'), 'member of a software RAID'],
  [at(0x8001, 'CD001'), 'ISO 9660'],
  [at(1024, '\x10\x20\xf5\xf2'), 'F2FS'],
];
const frontBytes = 0x10048;

/** Says what a volume holds, by its front. */
export async function recognise(blocks: Blocks): Promise<Recognised> {
  const front = await blocks.read(0, Math.min(blocks.size, frontBytes));
  for (const { signs, open, label } of fileSystems) {
    const found = signs(front);
    // one that is damaged is named all the same, and says so when it is opened
    const named = found && label ? await label(blocks).catch(() => '') : found?.label;
    if (found) return { ...found, label: named ?? '', open: () => open(blocks) };
  }
  const other = others.find(([is]) => is(front));
  if (other) return { type: other[1], label: other[1] === 'swap space' ? textAt(front, 0x41c, 16) : '' };
  return { type: front.every((byte) => byte === 0) ? 'nothing' : 'unknown', label: '' };
}

const mebibyte = 1 << 20;
const block = 4096;

/** Bytes of the journal of an ext4 file system; source of the steps: `ext2fs_default_journal_size` of e2fsprogs 1.47. */
function journalOf(bytes: number): number {
  const blocks = bytes / block;
  const steps: readonly (readonly [number, number])[] = [
    [32_768, 1024],
    [262_144, 4096],
    [524_288, 8192],
    [4_194_304, 16_384],
    [8_388_608, 32_768],
    [16_777_216, 65_536],
    [33_554_432, 131_072],
  ];
  return (steps.find(([below]) => blocks < below)?.[1] ?? 262_144) * block;
}

/** What a file system needs for itself: inodes of 256 bytes for each 16 KiB (4 KiB in one below 512 MiB), its journal, and its descriptions of groups. */
const own = (bytes: number) => bytes / (bytes < 512 * mebibyte ? 16 : 64) + journalOf(bytes) + bytes / 512 + mebibyte;

export interface LeastSize {
  /** Whole MiB. */
  readonly bytes: number;
  readonly content: number;
  /** What is put together on it meanwhile: the new initramfs beside the old one, for each kernel. */
  readonly staging: number;
  /** A tenth of both, so that the system can work when it starts. */
  readonly room: number;
  /** Of the file system for itself. */
  readonly own: number;
}

/** The least size of a volume that `content` bytes come back to, with `staging` bytes put together on it meanwhile. */
export function leastSize(content: number, staging = 0): LeastSize {
  const room = (content + staging) / 10;
  const held = content + staging + room;
  let bytes = held;
  // what a file system needs for itself grows with it; each round comes nearer by a factor of 16 or more
  for (let round = 0; round < 12; round++) bytes = Math.max(bytes, held + own(bytes));
  bytes = Math.ceil(bytes / mebibyte) * mebibyte;
  return { bytes, content, staging, room, own: bytes - held };
}

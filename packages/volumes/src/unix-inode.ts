import type { VolumeItem, VolumeItemKind } from './file-system';

/** Kinds of items by the upper bits of their mode. */
export const unixKinds: Readonly<Record<number, VolumeItemKind>> = {
  0x1000: 'fifo',
  0x2000: 'char',
  0x4000: 'folder',
  0x6000: 'block',
  0x8000: 'file',
  0xa000: 'link',
  0xc000: 'socket',
};

/** What file systems of Unix keep of an item, wherever they keep it. */
export interface UnixInode {
  readonly number: number;
  readonly kind: VolumeItemKind;
  readonly mode: number;
  readonly uid: number;
  readonly gid: number;
  readonly size: number;
  readonly links: number;
  readonly mtimeNs: bigint;
  readonly ctimeNs: bigint;
}

/** The item of an inode under a name; `device`: its number, where it is one. */
export function unixItem(name: string, inode: UnixInode, device: () => number): VolumeItem {
  const { kind, number, mtimeNs, ctimeNs, mode, uid, gid, size, links } = inode;
  return {
    name,
    kind,
    key: number,
    size: kind === 'file' ? size : 0,
    mtimeNs,
    ctimeNs,
    mode,
    uid,
    gid,
    linked: kind !== 'folder' && links > 1,
    ...((kind === 'char' || kind === 'block') && { device: device() }),
  };
}

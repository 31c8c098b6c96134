import type { ShareRef } from '@lithodex/kinds';
import type { TreeEntry } from '@lithodex/engine';
import type { ReadableTree } from '../readable-tree';
import { SmbShare } from './smb-share';
import { WebdavShare } from './webdav-share';

/** A file or folder on its way to a share; `path` is text that a share can hold. */
export interface ShareItem {
  readonly path: string;
  readonly entry: TreeEntry;
  readonly tree: ReadableTree;
}

/** A share in the network. Every call throws SourceError. */
export interface Share {
  /** Makes a folder and those above it, where they are not there. */
  makeFolder(path: string): Promise<void>;
  /** Takes away an empty folder. */
  removeFolder(path: string): Promise<void>;
  /** Writes files and folders below a folder; folders come before what is in them. `sent` is told the sum of each file. */
  write(
    below: string,
    items: AsyncIterable<ShareItem>,
    sent: (path: string, sum: string, bytes: number) => void,
    stopped: () => boolean,
  ): Promise<void>;
  /** Reads all files below a folder again: path and sum of each. */
  read(below: string, paths: readonly string[], each: (path: string, sum: string) => void, stopped: () => boolean): Promise<void>;
}

export function openShare({ address, opener }: ShareRef): Share {
  return address.kind === 'smb' ? new SmbShare(address, opener) : new WebdavShare(address, opener);
}

/** Whether a share lets us in and lets us write; throws SourceError where not. */
export async function testShare(ref: ShareRef): Promise<void> {
  const share = openShare(ref);
  const name = `lithodex-trial-${Date.now()}`;
  await share.makeFolder(name);
  await share.removeFolder(name);
}

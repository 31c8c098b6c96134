import { bytesOfText } from '@lithodex/core';
import { EngineError, type TreeEntry } from '@lithodex/engine';
import { ShareItemFacts } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import type { ListedFile } from './smb-listing';

const key = 'lithodex.share';
const plain = { uid: 0, gid: 0, ctimeNs: 0n, inode: 0 } as const;

/** The entry of an item of a share, without its content. */
export function shareEntry({ name, isFolder, size, mtime, attributes }: ListedFile, facts: Partial<ShareItemFacts> = {}): TreeEntry {
  const readOnly = attributes.includes('R');
  return {
    ...plain,
    name: bytesOfText(name),
    kind: isFolder ? 'folder' : 'file',
    mode: isFolder ? 0o755 : readOnly ? 0o444 : 0o644,
    mtimeNs: BigInt(mtime) * 1_000_000n,
    size: isFolder ? 0 : size,
    attributes: [[key, Buffer.from(JSON.stringify({ attributes, ...facts } satisfies ShareItemFacts))]],
  };
}

/** What is known of an item of a share beside its content; undefined for what is of another kind, and what a later version may have written. */
export function shareItemFacts({ attributes }: Pick<TreeEntry, 'attributes'>): ShareItemFacts | undefined {
  const found = attributes?.find(([name]) => name === key);
  if (!found) return undefined;
  try {
    return ShareItemFacts.safeParse(JSON.parse(found[1].toString('utf8'))).data;
  } catch {
    return undefined;
  }
}

/** Whether what is noted with two entries is the same. */
export function sameFacts(a: Pick<TreeEntry, 'attributes'>, b: Pick<TreeEntry, 'attributes'>): boolean {
  const [one, other] = [a, b].map((e) => e.attributes?.find(([name]) => name === key)?.[1]);
  return one !== undefined && other !== undefined && one.equals(other);
}

/** What a path (byte string) is called there. */
export const textOf = (path: string): string => Buffer.from(path, 'latin1').toString('utf8');

/** Whether an error says that nothing more can be asked of the share. */
export const endsAll = (error: unknown): boolean =>
  error instanceof EngineError ||
  !(error instanceof SourceError) ||
  ['SHARE_REFUSED', 'SHARE_AWAY', 'SHARE_PROGRAM_MISSING'].includes(error.code);

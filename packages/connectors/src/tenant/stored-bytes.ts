import { fileContent } from '../file-content';
import type { FoundItem } from '../readable-tree';
import { SourceError } from '../source-error';

/** Longest item that goes through memory. */
const mostBytes = 1 << 30;

/** All bytes of an item that is stored. Throws SourceError for one that is too long. */
export async function storedBytes({ tree, entry }: Pick<FoundItem, 'tree' | 'entry'>): Promise<Buffer> {
  if (entry.size > mostBytes) throw new SourceError('TENANT_FAILED', 'it is too long');
  const parts: Buffer[] = [];
  for await (const part of fileContent(tree, entry)) parts.push(Buffer.from(part));
  return Buffer.concat(parts);
}

import { createHash, type Hash } from 'node:crypto';
import type { TreeEntry } from '@lithodex/engine';
import { fileContent } from '../file-content';
import type { ReadableTree } from '../readable-tree';
import type { BucketClient, ListedObject } from './bucket-client';

const md5Form = /^[0-9a-f]{32}$/;

interface StoredObject {
  readonly tree: ReadableTree;
  readonly entry: TreeEntry;
  readonly etag: string;
}

/** Whether an object of a bucket is what is stored: by its ETag, by the sum that is most often one, else by its bytes. */
export async function isSameObject(
  client: BucketClient,
  key: string,
  now: Pick<ListedObject, 'size' | 'etag'>,
  { tree, entry, etag }: StoredObject,
): Promise<boolean> {
  if (now.size !== entry.size) return false;
  if (etag !== '' && now.etag === etag) return true;
  if (md5Form.test(now.etag) && (await sumOf('md5', fileContent(tree, entry))) === now.etag) return true;
  if (md5Form.test(now.etag) && md5Form.test(etag)) return false;
  const { body } = await client.open(key);
  return (await sumOf('sha256', fileContent(tree, entry))) === (await sumOf('sha256', body));
}

async function sumOf(kind: 'md5' | 'sha256', pieces: AsyncIterable<Uint8Array>): Promise<string> {
  const hash: Hash = createHash(kind);
  for await (const piece of pieces) hash.update(piece);
  return hash.digest('hex');
}

import { EngineError, type TreeEntry } from '@lithodex/engine';
import type { PointStore } from '../point-store';

/** The content of an item of a point, in pieces. Sums are checked as they are read. */
export async function* contentOf(store: PointStore, { content }: Pick<TreeEntry, 'content'>): AsyncGenerator<Buffer> {
  for await (const { names } of store.trees.contentParts(content))
    for (let at = 0; at < names.length; at += 32) {
      const data = await store.reader.read(names.subarray(at, at + 32));
      if (data.length === 0) throw new EngineError('OBJECT_DAMAGED', 'an empty chunk');
      yield data;
    }
}

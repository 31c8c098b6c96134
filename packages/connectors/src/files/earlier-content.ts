import { ByteReader, EngineError, readEntry, wholeLimit, type EarlierChunks, type EntryCursor, type TreeReader } from '@lithodex/engine';

/** Chunks a file had at the earlier point; undefined where it was not cut, or where that can not be read: the file is then cut as if it were new. */
export async function earlierChunks(trees: TreeReader, old: EntryCursor): Promise<EarlierChunks | undefined> {
  if (old.kind !== 'file' || old.size <= wholeLimit) return undefined;
  const names: Buffer[] = [];
  const lengths: number[] = [];
  try {
    for await (const part of trees.contentParts(readEntry(new ByteReader(old.bytes())).content)) {
      names.push(part.names);
      for (const length of part.lengths) lengths.push(length);
    }
  } catch (error) {
    if (error instanceof EngineError) return undefined;
    throw error;
  }
  return { names: new Uint8Array(Buffer.concat(names)), lengths };
}

/** Whether two entries of one file name other chunks; not told for files whose chunks stand in lists of their own. */
export function isOtherContent(a: Buffer, b: Buffer): boolean {
  if (a.equals(b)) return false;
  const [before, now] = [a, b].map((data) => readEntry(new ByteReader(data)).content);
  return before !== undefined && now !== undefined && 'names' in before && 'names' in now && !before.names.equals(now.names);
}

import { createWriteStream, type WriteStream } from 'node:fs';
import { once } from 'node:events';
import path from 'node:path';
import type { Store, TreeEntry } from '@lithodex/engine';
import { SourceError } from '../../../source-error';
import { contentOf } from '../../stored-content';
import type { PointStore } from '../../../point-store';

/** Folder that holds the log: a folder a stretch, in it the segments of the server. */
export const logFolder = 'log';

/** A segment of the log that is stored; its time is that of its last commit. */
export interface Segment {
  readonly stretch: number;
  readonly entry: TreeEntry;
}

/** The segments of a point of a log, in order. */
export async function segmentsOf(store: Pick<Store, 'trees'>, top: TreeEntry): Promise<Segment[]> {
  const below = async (entry: TreeEntry | undefined) => (entry?.folder ? store.trees.folder(entry.folder.node) : []);
  const log = (await below(top)).find((e) => e.name === logFolder);
  const found: Segment[] = [];
  for (const stretch of await below(log)) for (const entry of await below(stretch)) found.push({ stretch: Number(stretch.name), entry });
  return found.sort((a, b) => a.stretch - b.stretch || (a.entry.name < b.entry.name ? -1 : 1));
}

const written = async (to: WriteStream, data: Buffer) => {
  if (!to.write(data)) await once(to, 'drain');
};

/** Writes stored segments into a folder, under their names. `moved` is told of bytes. */
export async function writeSegments(
  store: PointStore,
  segments: readonly Segment[],
  folder: string,
  moved: (bytes: number) => void = () => undefined,
): Promise<void> {
  for (const { entry } of segments) {
    if (!/^[0-9A-F]{24}$/.test(entry.name)) throw new SourceError('LOG_DAMAGED', 'a segment of another name');
    const to = createWriteStream(path.join(folder, entry.name), { flags: 'wx', mode: 0o644 });
    for await (const data of contentOf(store, entry)) {
      await written(to, data);
      moved(data.length);
    }
    to.end();
    await once(to, 'close');
  }
}

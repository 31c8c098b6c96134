import { parentPort, workerData } from 'node:worker_threads';
import {
  BlockReader,
  ByteReader,
  EngineError,
  EntryCursor,
  entryFlags,
  haltedBy,
  readEntry,
  reusedMemory,
  served,
  targetAt,
} from '@lithodex/engine';
import { placeFile, placePlain, type ChunkSource } from './place-file';
import { readBatch, type BatchedFile, type PlacedChunk } from './place-message';
import type { PlaceProblem, PlaceReply, PlaceRequest, PlaceStart } from './place-pool';
import { outcomeOf } from './placer';

/** Thread that reads, checks and writes files in folders its owner has opened. */
const start = workerData as PlaceStart;
const halted = haltedBy(start);
const cacheBytes = 8 << 20;
const target = targetAt(start.place);
const reader = new BlockReader(
  { nameKey: Buffer.from(start.nameKey), dataKey: Buffer.from(start.dataKey) },
  target,
  cacheBytes,
  reusedMemory(),
);
const reply = (message: PlaceReply) => {
  parentPort!.postMessage(message);
};
const tellEvery = 8 << 20;
let untold = 0;

function tell(least: number): void {
  if (untold < least) return;
  reply({ type: 'bytes', bytes: untold });
  untold = 0;
}

function contentOf(chunks: readonly PlacedChunk[]): ChunkSource {
  let at = 0;
  return () => {
    const chunk = chunks[at++];
    if (!chunk) return undefined;
    if (halted()) throw new EngineError('STOPPED');
    untold += chunk.location.length;
    tell(tellEvery);
    return reader.chunk(chunk.name, chunk.location);
  };
}

const more = entryFlags.unread | entryFlags.hardId | entryFlags.attributes | entryFlags.ranges | entryFlags.lists | entryFlags.device;

/** Places a file; waits only where something has to be read from the target first, or the file has more to it than most. */
function place({ file, chunks }: BatchedFile): readonly string[] | Promise<readonly string[]> {
  const at = new EntryCursor(file.entry, { at: 0 }, 1);
  at.next();
  const [chunk] = chunks;
  if (file.replace || chunks.length > 1 || (at.flags & more) !== 0 || at.size !== (chunk?.location.length ?? 0))
    return placeAny(file, chunks);
  const next = contentOf(chunks);
  const data = next();
  return data instanceof Promise
    ? data.then((loaded) => placePlain(file.folder, at, loaded) ?? placeAny(file, chunks))
    : (placePlain(file.folder, at, data) ?? placeAny(file, chunks));
}

function placeAny(file: BatchedFile['file'], chunks: readonly PlacedChunk[]): Promise<readonly string[]> {
  return placeFile({ ...file, entry: readEntry(new ByteReader(file.entry)) }, contentOf(chunks));
}

async function handle(request: PlaceRequest): Promise<void> {
  if (request.type === 'rest') {
    target.close();
    return;
  }
  const { id, batch } = request;
  const problems: PlaceProblem[] = [];
  let at = 0;
  for (const batched of readBatch(batch)) {
    try {
      const placed = place(batched);
      const notSet = placed instanceof Promise ? await placed : placed;
      if (notSet.length) problems.push({ at, failed: '', notSet });
    } catch (error) {
      const { failed, notSet, fatal, lost } = outcomeOf(error);
      problems.push({
        at,
        failed,
        notSet,
        ...(fatal && { fatal: { code: fatal.code, details: fatal.details } }),
        ...(lost && { lost }),
      });
    }
    at++;
  }
  tell(1);
  reply({ type: 'placed', id, problems });
}

let queue = Promise.resolve();
served((request: PlaceRequest) => {
  queue = queue.then(() => handle(request));
});

import { parentPort, workerData } from 'node:worker_threads';
import { BlockReader, EngineError, haltedBy, served, targetAt } from '@lithodex/engine';
import { placeFile, type ChunkSource } from './place-file';
import { readBatch, type PlacedChunk } from './place-message';
import { outcomeOf, type PlaceProblem, type PlaceReply, type PlaceRequest, type PlaceStart } from './placer';

/** Thread that reads, checks and writes files in folders its owner has opened. */
const start = workerData as PlaceStart;
const halted = haltedBy(start);
const cacheBytes = 16 << 20;
const reader = new BlockReader(
  { nameKey: Buffer.from(start.nameKey), dataKey: Buffer.from(start.dataKey) },
  targetAt(start.place),
  cacheBytes,
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

async function handle({ id, batch }: PlaceRequest): Promise<void> {
  const problems: PlaceProblem[] = [];
  let at = 0;
  for (const { file, chunks } of readBatch(batch)) {
    try {
      const notSet = await placeFile(file, contentOf(chunks));
      if (notSet.length) problems.push({ at, failed: '', notSet });
    } catch (error) {
      const { failed, notSet, fatal, lost } = outcomeOf(error);
      problems.push({
        at,
        failed,
        notSet,
        ...(fatal && { fatal: { code: fatal.code, details: fatal.details ?? '' } }),
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

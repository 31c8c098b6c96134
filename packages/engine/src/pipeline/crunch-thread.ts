import { parentPort, workerData } from 'node:worker_threads';
import { ClaimTable } from '../index/claim-table';
import type { KeySet } from '../keys/key-set';
import { ChunkWriter } from '../store/chunk-writer';
import { DiskFolder } from '../targets/disk-folder';
import { Crunch } from './crunch';
import type { CrunchRequest, CrunchStart, CrunchReply } from './crunch-pool';

/** Thread that does everything for its files: read, cut, name, look up, compress, encrypt, write packs. */
const start = workerData as CrunchStart;
const keys: KeySet = { nameKey: Buffer.from(start.nameKey), dataKey: Buffer.from(start.dataKey) };
const claims = new ClaimTable(start.claims);
const reply = (message: CrunchReply) => parentPort!.postMessage(message);
const writer = new ChunkWriter(
  keys,
  new DiskFolder(start.folder),
  (name) => claims.claim(name),
  (toc) => {
    reply({ type: 'pack', toc });
  },
);
const crunch = new Crunch(keys, writer);

async function handle(request: CrunchRequest): Promise<void> {
  if (request.type === 'files') {
    const results = [];
    for (const job of request.jobs) results.push(await crunch.file(job));
    reply({ type: 'files', id: request.id, results });
  } else {
    await writer.finish();
    reply({ type: 'finished', counts: writer.counts });
  }
}

let queue = Promise.resolve();
parentPort!.on('message', (request: CrunchRequest) => {
  queue = queue
    .then(() => handle(request))
    .catch((error: unknown) => {
      const { code, details } = error as { code?: string; details?: string };
      reply({ type: 'failed', code: code ?? 'UNKNOWN', details: details ?? String(error) });
    });
});

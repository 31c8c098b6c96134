import { parentPort, workerData } from 'node:worker_threads';
import type { PackToc } from '../format/toc';
import { ClaimTable } from '../index/claim-table';
import type { KeySet } from '../keys/key-set';
import { ChunkWriter } from '../store/chunk-writer';
import { targetAt } from '../targets/target-at';
import { served } from '../threads/thread-end';
import { haltedBy } from '../threads/thread-pool';
import { Crunch, cutterOf, handedOver } from './crunch';
import { FileResults } from './file-results';
import type { CrunchRequest, CrunchStart, CrunchReply } from './crunch-pool';

/** Thread that does everything for its files: read, cut, name, look up, compress, encrypt, write packs. */
const start = workerData as CrunchStart;
const keys: KeySet = { nameKey: Buffer.from(start.nameKey), dataKey: Buffer.from(start.dataKey) };
const target = targetAt(start.place);
const cutter = cutterOf(keys);
const reply = (message: CrunchReply, handedOver: ArrayBuffer[] = []) => {
  parentPort!.postMessage(message, handedOver);
};
const results = new FileResults();
let writer: ChunkWriter | undefined;
let crunch: Crunch | undefined;

function begin(memory: SharedArrayBuffer): void {
  const claims = new ClaimTable(memory);
  const onPack = (toc: PackToc) => {
    const encoded = new Uint8Array(toc.encode());
    reply({ type: 'pack', toc: encoded }, [encoded.buffer]);
  };
  writer = new ChunkWriter(keys, target, (name) => claims.claim(name), onPack);
  crunch = new Crunch(cutter, writer, haltedBy(start));
}

async function handle(request: CrunchRequest): Promise<void> {
  if (request.type === 'begin') {
    begin(request.claims);
    return;
  }
  if (!writer || !crunch) throw new Error('a run must begin first');
  if (request.type === 'files') {
    await crunch.files(request.jobs, results);
    const data = results.take();
    reply({ type: 'files', id: request.id, results: data }, [data.buffer]);
  } else if (request.type === 'blocks') {
    const done = await crunch.blocks(request.job);
    reply({ type: 'blocks', id: request.id, done }, [done.names.buffer as ArrayBuffer]);
  } else if (request.type === 'segment') {
    const done = await crunch.segment(request.data);
    const { names, memory } = done;
    reply({ type: 'segment', id: request.id, done }, [names.buffer as ArrayBuffer, ...handedOver(memory)]);
  } else {
    await writer.finish();
    reply({ type: 'finished', counts: writer.counts });
  }
}

let queue = Promise.resolve();
served((request: CrunchRequest) => {
  queue = queue
    .then(() => handle(request))
    .catch((error: unknown) => {
      const { code, details } = error as { code?: string; details?: string };
      reply({ type: 'failed', code: code ?? 'UNKNOWN', details: details ?? String(error) });
    });
});

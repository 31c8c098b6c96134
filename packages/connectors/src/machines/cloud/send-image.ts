import { createHash } from 'node:crypto';
import { setTimeout as pause } from 'node:timers/promises';
import { qcow2Cluster, qcow2Layout } from '@lithodex/core';
import { EngineError } from '@lithodex/engine';
import { SourceError } from '../../source-error';
import { SlidingWork } from '../../sliding-work';
import { imageBlock, zeroBlock, type ImageMap } from '../image-map';
import type { Range } from '../platform-types';
import type { CloudClient } from './cloud-client';

/** An object is staged in pieces of this size, in bytes, so many at a time. */
const pieceBytes = 8 << 20;
const atOnce = 3;
/** Sums are asked for in stretches of at most so many blocks. */
const blocksOfSum = 64;
const sumsAtOnce = 2000;
const [firstLookMs, longestLookMs] = [20, 2000];

export interface ImageToSend {
  readonly client: CloudClient;
  /** The volume that takes it. */
  readonly volume: string;
  /** What the object is called while it is staged. */
  readonly name: string;
  readonly map: ImageMap;
  /** Numbers of the blocks that are sent, rising; the volume keeps what it holds elsewhere. */
  readonly blocks: readonly number[];
  readonly readChunk: (name: Buffer) => Promise<Buffer>;
  readonly onBytes: (bytes: number) => void;
  readonly stopped: () => boolean;
}

/** The stretches that were sent, each with the SHA-256 of what was sent. */
interface Sent {
  readonly ranges: Range[];
  readonly sums: string[];
}

/**
 * Sends blocks of a disk into a volume of a cloud: as a QCOW2 image that is staged, imported over what the volume holds, and then compared by sums that the cloud makes of the
 * volume. Returns the bytes that were sent. Throws IMPORT_FAILED, NOT_AS_STORED, STOPPED.
 */
export async function sendImage(image: ImageToSend): Promise<number> {
  const { client, blocks, name } = image;
  if (!blocks.length) return 0;
  const sent: Sent = { ranges: [], sums: [] };
  try {
    const { sum, bytes } = await stage(image, sent);
    await importStaged(image, sum);
    await compare(image, sent);
    await client.dropStaged(name);
    return bytes;
  } catch (error) {
    await client.dropStaged(name).catch(() => undefined);
    throw error;
  }
}

/** The image from front to back; takes note of what each stretch of the disk holds. */
async function* partsOf({ map, blocks, readChunk }: ImageToSend, sent: Sent): AsyncGenerator<Uint8Array> {
  if (imageBlock !== qcow2Cluster) throw new RangeError('blocks of images are clusters');
  yield* qcow2Layout(map.size, Uint32Array.from(blocks)).front();
  let sum = createHash('sha256');
  let from = 0;
  for (const [i, block] of blocks.entries()) {
    const length = map.lengthOf(block);
    const named = map.name(block);
    const data = named ? await readChunk(named) : zeroBlock.subarray(0, length);
    yield data;
    if (length < qcow2Cluster) yield zeroBlock.subarray(length);
    sum.update(data);
    const goesOn = blocks[i + 1] === block + 1 && i + 1 - from < blocksOfSum;
    if (goesOn) continue;
    const first = blocks[from]!;
    sent.ranges.push([first * imageBlock, (block - first) * imageBlock + length]);
    sent.sums.push(sum.digest('hex'));
    sum = createHash('sha256');
    from = i + 1;
  }
}

async function stage(image: ImageToSend, sent: Sent): Promise<{ readonly sum: string; readonly bytes: number }> {
  const { client, name, onBytes, stopped } = image;
  const sum = createHash('sha256');
  const sliding = new SlidingWork(atOnce);
  let parts: Uint8Array[] = [];
  let held = 0;
  let offset = 0;
  const put = async () => {
    const piece = Buffer.concat(parts);
    const at = offset;
    offset += piece.length;
    parts = [];
    held = 0;
    await sliding.add(async () => {
      await client.stage(name, at, piece);
      onBytes(piece.length);
    });
  };
  for await (const part of partsOf(image, sent)) {
    if (stopped()) throw new EngineError('STOPPED');
    sum.update(part);
    parts.push(part);
    held += part.length;
    if (held >= pieceBytes) await put();
  }
  if (held) await put();
  await sliding.idle();
  return { sum: sum.digest('hex'), bytes: offset };
}

async function importStaged({ client, name, volume, stopped }: ImageToSend, sum: string): Promise<void> {
  let job = await client.beginImport(name, sum, volume);
  for (let wait = firstLookMs; job.state === 'working'; wait = Math.min(longestLookMs, wait * 1.5)) {
    if (stopped()) throw new EngineError('STOPPED');
    await pause(wait);
    job = await client.importJob(job.id);
  }
  if (job.state === 'failed') throw new SourceError('IMPORT_FAILED', job.why.replace(/\.$/, '').slice(0, 300));
}

async function compare({ client, volume }: ImageToSend, { ranges, sums }: Sent): Promise<void> {
  for (let at = 0; at < ranges.length; at += sumsAtOnce) {
    const there = await client.sums(volume, ranges.slice(at, at + sumsAtOnce));
    const wrong = there.findIndex((sum, i) => sum !== sums[at + i]);
    if (wrong >= 0) throw new SourceError('NOT_AS_STORED', `the volume at ${ranges[at + wrong]![0]}`);
  }
}

import { randomBytes } from 'node:crypto';
import { EngineError } from '../errors';
import { seal, subkey, unseal, type KeySet } from '../keys/key-set';
import { openInto, sealInto, tagBytes } from '../native/gcm';
import { compressBound, compressInto, decompressInto } from '../native/zstd';
import { ByteReader } from './byte-io';
import { PackToc, type BlockPlace, type TocChunk } from './toc';

/**
 * A pack file: magic (8) · pack id (16) · blocks (ciphertext + 16-byte tag each) · sealed table of contents · its length (u32) · end magic (8).
 * Every pack has its own key; the nonce of a block is its number, and pack id, number, codec and raw length are authenticated with it.
 */
export const packMagic = Buffer.from('LXPACK1\n');
export const packEnd = Buffer.from('LXPKEND\n');
export const packLimit = 32 << 20;
/** A pack of tiny chunks ends before its table of contents outweighs them. */
const mostChunks = 1 << 14;
const head = packMagic.length + 16;
const tocNumber = 0xffffffff;

export function packName(packId: Buffer): string {
  const hex = packId.toString('hex');
  return `packs/${hex.slice(0, 2)}/${hex}`;
}

function nonceOf(number: number): Buffer {
  const nonce = Buffer.alloc(12);
  nonce.writeUInt32LE(number, 0);
  return nonce;
}

function aadOf(packId: Buffer, number: number, codec: number, raw: number): Buffer {
  const aad = Buffer.alloc(25);
  packId.copy(aad);
  aad.writeUInt32LE(number, 16);
  aad.writeUInt8(codec, 20);
  aad.writeUInt32LE(raw, 21);
  return aad;
}

/** Gathers blocks of one pack in memory. */
export class PackBuilder {
  readonly packId = randomBytes(16);
  private readonly key: Buffer;
  private readonly buffer: Buffer;
  private length = head;
  private readonly blocks: BlockPlace[] = [];
  private readonly chunks: TocChunk[] = [];

  constructor(
    keys: KeySet,
    private readonly scratch: Scratch,
  ) {
    this.key = subkey(keys, 'pack', this.packId);
    this.buffer = scratch.take();
    packMagic.copy(this.buffer, 0);
    this.packId.copy(this.buffer, packMagic.length);
  }

  get full(): boolean {
    return this.length >= packLimit || this.chunks.length >= mostChunks;
  }

  get empty(): boolean {
    return this.blocks.length === 0;
  }

  /** Bytes the pack takes so far. */
  get bytes(): number {
    return this.length;
  }

  /** Compresses (if not `dense`), encrypts and appends one block holding these chunks (their `block` is filled in here). */
  add(raw: Uint8Array, chunks: readonly Omit<TocChunk, 'block'>[], dense = false): void {
    const number = this.blocks.length;
    const packed = dense ? raw.length : compressInto(this.scratch.compressed, raw);
    const codec = packed < raw.length * 0.97 ? 1 : 0;
    const payload = codec === 1 ? this.scratch.compressed.subarray(0, packed) : raw;
    const offset = this.length;
    this.length += sealInto(
      this.buffer.subarray(offset),
      this.key,
      nonceOf(number),
      aadOf(this.packId, number, codec, raw.length),
      payload,
    );
    this.blocks.push({ offset, stored: this.length - offset, raw: raw.length, codec });
    for (const chunk of chunks) this.chunks.push({ ...chunk, block: number });
  }

  /** The finished file and its table of contents. Call `release` when the file has been written: its memory is then used again. */
  finish(): { file: Buffer; toc: PackToc; release: () => void } {
    const toc = PackToc.of(this.packId, this.blocks, this.chunks);
    const sealed = seal(this.key, nonceOf(tocNumber), aadOf(this.packId, tocNumber, 0, 0), toc.encode());
    const tail = Buffer.alloc(4);
    tail.writeUInt32LE(sealed.length);
    const parts = [sealed, tail, packEnd];
    const release = () => {
      this.scratch.give(this.buffer, this.length);
    };
    const room = this.buffer.length - this.length;
    if (parts.reduce((sum, part) => sum + part.length, 0) > room)
      return { file: Buffer.concat([this.buffer.subarray(0, this.length), ...parts]), toc, release };
    for (const part of parts) this.length += part.copy(this.buffer, this.length);
    return { file: this.buffer.subarray(0, this.length), toc, release };
  }
}

/** Buffers used again from pack to pack. New ones for every small task would keep the collector of garbage busier than the task does the thread. */
export class Scratch {
  static readonly largestBlock = 5 << 20;
  static readonly largestUsualToc = 1 << 20;
  /** Memory that was written on up to here is kept while nothing is done: what was never touched takes no room. */
  private static readonly keptBytes = 4 << 20;
  private readonly free: Buffer[] = [];
  private used = 0;
  private block: Buffer | undefined;

  /** Memory for one block that is compressed; most threads that know this write none. */
  get compressed(): Buffer {
    return (this.block ??= Buffer.allocUnsafeSlow(compressBound(Scratch.largestBlock)));
  }

  /** Memory for a pack. */
  take(): Buffer {
    return this.free.pop() ?? Buffer.allocUnsafeSlow(packLimit + Scratch.largestBlock + Scratch.largestUsualToc);
  }

  /** Takes back the memory of a pack of so many bytes. */
  give(pack: Buffer, bytes: number): void {
    this.free.push(pack);
    this.used = Math.max(this.used, bytes);
  }

  /** Nothing more for now: keeps memory for one pack, unless so much was written on it that it takes real room. */
  rest(): void {
    this.free.length = this.used > Scratch.keptBytes ? 0 : Math.min(1, this.free.length);
    this.used = 0;
  }
}

/** That of this thread: what is written goes through it a pack at a time. */
export const threadScratch = new Scratch();

let compressed = Buffer.allocUnsafeSlow(2 << 20);

function roomForCompressed(bytes: number): Buffer {
  if (compressed.length < bytes) compressed = Buffer.allocUnsafeSlow(bytes);
  return compressed;
}

/** Decrypts, checks and decompresses one block; `to` lends memory of at least its raw length, of which the answer is a view. Throws OBJECT_DAMAGED. */
export function openBlock(
  keys: KeySet,
  packId: Buffer,
  number: number,
  place: BlockPlace,
  stored: Buffer,
  to: Buffer = Buffer.allocUnsafe(place.raw),
): Buffer {
  const damaged = (why: string) => new EngineError('OBJECT_DAMAGED', `${packName(packId)}, block ${number}: ${why}`);
  if (stored.length !== place.stored || stored.length < tagBytes) throw damaged('cut short');
  const aad = aadOf(packId, number, place.codec, place.raw);
  const plain = place.codec === 1 ? roomForCompressed(stored.length) : to;
  if (place.codec === 0 && stored.length - tagBytes !== place.raw) throw damaged('the length does not fit');
  const length = openInto(plain, subkeyOf(keys, packId), nonceOf(number), aad, stored);
  if (length === undefined) throw damaged('the authentication tag does not fit');
  const raw = to.subarray(0, place.raw);
  if (place.codec === 1 && decompressInto(raw, plain.subarray(0, length)) !== place.raw) throw damaged('the length does not fit');
  return raw;
}

const recentKeys = new WeakMap<KeySet, Map<string, Buffer>>();

function subkeyOf(keys: KeySet, packId: Buffer): Buffer {
  const known = recentKeys.get(keys) ?? new Map<string, Buffer>();
  recentKeys.set(keys, known);
  const id = packId.toString('latin1');
  let key = known.get(id);
  if (!key) {
    if (known.size > 4096) known.clear();
    key = subkey(keys, 'pack', packId);
    known.set(id, key);
  }
  return key;
}

/** Reads the table of contents of a whole pack file. Throws OBJECT_DAMAGED. */
export function readPackToc(keys: KeySet, file: Buffer): PackToc {
  const end = file.length - packEnd.length;
  const damaged = new EngineError('OBJECT_DAMAGED', 'pack without a readable table of contents');
  if (end < head + 4 || !file.subarray(end).equals(packEnd) || !file.subarray(0, 8).equals(packMagic)) throw damaged;
  const packId = Buffer.from(file.subarray(8, 24));
  const length = file.readUInt32LE(end - 4);
  if (length > end - 4 - head) throw damaged;
  const plain = unseal(
    subkeyOf(keys, packId),
    nonceOf(tocNumber),
    aadOf(packId, tocNumber, 0, 0),
    file.subarray(end - 4 - length, end - 4),
  );
  if (!plain) throw damaged;
  return PackToc.decode(new ByteReader(plain));
}

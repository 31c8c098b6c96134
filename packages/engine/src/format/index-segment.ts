import { randomBytes } from 'node:crypto';
import { EngineError } from '../errors';
import { seal, subkey, unseal, type KeySet } from '../keys/key-set';
import { compress, decompress } from '../native/zstd';
import { ByteReader } from './byte-io';
import { PackToc } from './toc';

/** An index segment: magic (8) · id (16) · raw length (u32) · sealed zstd of the tables of contents of some packs. Immutable. */
const magic = Buffer.from('LXINDX1\n');

export function encodeSegment(keys: KeySet, tocs: readonly PackToc[]): { name: string; file: Buffer } {
  const id = randomBytes(16);
  const raw = Buffer.concat(tocs.map((toc) => toc.encode()));
  const length = Buffer.alloc(4);
  length.writeUInt32LE(raw.length);
  const sealed = seal(subkey(keys, 'index', id), Buffer.alloc(12), length, compress(raw, 1));
  return { name: `index/${id.toString('hex')}`, file: Buffer.concat([magic, id, length, sealed]) };
}

/** Throws OBJECT_DAMAGED. */
export function decodeSegment(keys: KeySet, name: string, file: Buffer): PackToc[] {
  const damaged = new EngineError('OBJECT_DAMAGED', name);
  if (file.length < 44 || !file.subarray(0, 8).equals(magic)) throw damaged;
  const id = file.subarray(8, 24);
  const length = file.subarray(24, 28);
  const packed = unseal(subkey(keys, 'index', id), Buffer.alloc(12), length, file.subarray(28));
  const raw = packed && decompress(packed, length.readUInt32LE(0));
  if (!raw) throw damaged;
  const reader = new ByteReader(raw);
  const tocs: PackToc[] = [];
  while (reader.left > 0) tocs.push(PackToc.decode(reader));
  return tocs;
}

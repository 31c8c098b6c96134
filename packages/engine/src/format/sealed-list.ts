import { randomBytes } from 'node:crypto';
import { EngineError } from '../errors';
import { seal, subkey, unseal, type KeySet } from '../keys/key-set';

const magics = {
  condemned: Buffer.from('LXCOND1\n'),
  locks: Buffer.from('LXLOCK1\n'),
  owner: Buffer.from('LXOWNR1\n'),
  settings: Buffer.from('LXSETS1\n'),
  followers: Buffer.from('LXFOLW1\n'),
} as const;
export type ListKind = keyof typeof magics;

/** A record that holds a list of texts: magic (8) · nonce (12) · sealed JSON. The key belongs to its kind and name, the magic is authenticated. */
export function encodeList(keys: KeySet, kind: ListKind, name: string, list: readonly string[]): Buffer {
  const nonce = randomBytes(12);
  const text = Buffer.from(JSON.stringify(list));
  return Buffer.concat([magics[kind], nonce, seal(subkey(keys, kind, Buffer.from(name)), nonce, magics[kind], text)]);
}

/** Throws OBJECT_DAMAGED. */
export function decodeList(keys: KeySet, kind: ListKind, name: string, file: Buffer): string[] {
  const plain =
    file.length > 36 &&
    file.subarray(0, 8).equals(magics[kind]) &&
    unseal(subkey(keys, kind, Buffer.from(name)), file.subarray(8, 20), magics[kind], file.subarray(20));
  if (!plain) throw new EngineError('OBJECT_DAMAGED', `${kind}/${name}`);
  return JSON.parse(plain.toString()) as string[];
}

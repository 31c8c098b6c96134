import { createHmac, hkdfSync, randomBytes, scryptSync, timingSafeEqual } from 'node:crypto';
import { EngineError } from '../errors';
import { openInto, sealInto, tagBytes } from '../native/gcm';

/** The secrets of one target. `nameKey` belongs to the deduplication domain, the others to the target alone. */
export interface KeySet {
  /** 32 bytes: keys chunk names, seeds the cut points; never changes in a domain's life. */
  readonly nameKey: Buffer;
  /** 32 bytes: every pack, index segment and root has a subkey of it. */
  readonly dataKey: Buffer;
}

export interface KeyFileSlot {
  readonly kind: 'keyfile';
  readonly nonce: string;
  readonly wrapped: string;
}

export interface PassphraseSlot {
  readonly kind: 'passphrase';
  readonly salt: string;
  readonly cost: number;
  readonly nonce: string;
  readonly wrapped: string;
}

export type KeySlot = KeyFileSlot | PassphraseSlot;

const scryptCost = 2 ** 16;

/** What targets share so that the same chunk has the same name on each of them. */
export interface Domain {
  readonly id: string;
  readonly nameKey: Buffer;
}

/** New keys for a target of a domain. */
export function newKeySet(nameKey: Buffer = randomBytes(32)): KeySet {
  return { nameKey, dataKey: randomBytes(32) };
}

/** 32-byte subkey of the data key for one object: HKDF-SHA256 with the object's id as salt (RFC 5869). */
export function subkey(
  keys: KeySet,
  purpose: 'pack' | 'index' | 'root' | 'header' | 'condemned' | 'locks' | 'owner' | 'settings' | 'followers',
  id: Uint8Array,
): Buffer {
  return Buffer.from(hkdfSync('sha256', keys.dataKey, id, `lithodex ${purpose} 1`, 32));
}

/** Seed of the cut table: 32 bytes. */
export function cutSeed(keys: KeySet): Buffer {
  return Buffer.from(hkdfSync('sha256', keys.nameKey, Buffer.alloc(0), 'lithodex cut 1', 32));
}

/** AES-256-GCM; returns ciphertext followed by the 16-byte tag. */
export function seal(key: Uint8Array, nonce: Uint8Array, aad: Uint8Array, plain: Uint8Array): Buffer {
  const sealed = Buffer.allocUnsafe(plain.length + tagBytes);
  sealInto(sealed, key, nonce, aad, plain);
  return sealed;
}

/** Inverse of {@link seal}; undefined when the tag does not fit. */
export function unseal(key: Uint8Array, nonce: Uint8Array, aad: Uint8Array, sealed: Uint8Array): Buffer | undefined {
  const plain = Buffer.allocUnsafe(Math.max(0, sealed.length - tagBytes));
  return openInto(plain, key, nonce, aad, sealed) === undefined ? undefined : plain;
}

function wrap(kek: Buffer, keys: KeySet, targetId: string): { nonce: string; wrapped: string } {
  const nonce = randomBytes(12);
  const sealed = seal(kek, nonce, Buffer.from(targetId), Buffer.concat([keys.nameKey, keys.dataKey]));
  return { nonce: nonce.toString('base64'), wrapped: sealed.toString('base64') };
}

function unwrap(kek: Buffer, slot: KeySlot, targetId: string): KeySet {
  const plain = unseal(kek, Buffer.from(slot.nonce, 'base64'), Buffer.from(targetId), Buffer.from(slot.wrapped, 'base64'));
  if (plain?.length !== 64) throw new EngineError('KEY_WRONG');
  return { nameKey: plain.subarray(0, 32), dataKey: plain.subarray(32) };
}

export function wrapWithKeyFile(keyFile: Buffer, keys: KeySet, targetId: string): KeyFileSlot {
  return { kind: 'keyfile', ...wrap(keyFile, keys, targetId) };
}

/** Wraps under a passphrase through scrypt (RFC 7914) with 64 MiB of memory. */
export function wrapWithPassphrase(passphrase: string, keys: KeySet, targetId: string): PassphraseSlot {
  const salt = randomBytes(16);
  const kek = scryptSync(passphrase.normalize('NFC'), salt, 32, { N: scryptCost, r: 8, p: 1, maxmem: 256 * scryptCost * 8 });
  return { kind: 'passphrase', salt: salt.toString('base64'), cost: scryptCost, ...wrap(kek, keys, targetId) };
}

/** Opens a slot. Throws KEY_WRONG. */
export function openSlot(slot: KeySlot, secret: Buffer | string, targetId: string): KeySet {
  if (slot.kind === 'keyfile') return unwrap(Buffer.from(secret as Buffer), slot, targetId);
  if (slot.cost > 2 ** 20) throw new EngineError('STORE_HEADER', 'the cost of the passphrase slot is out of range');
  const salt = Buffer.from(slot.salt, 'base64');
  const kek = scryptSync(String(secret).normalize('NFC'), salt, 32, { N: slot.cost, r: 8, p: 1, maxmem: 256 * slot.cost * 8 });
  return unwrap(kek, slot, targetId);
}

/** Authentication code of the header's fields. */
export function headerMac(keys: KeySet, text: string): string {
  return createHmac('sha256', subkey(keys, 'header', Buffer.alloc(0)))
    .update(text)
    .digest('base64');
}

export function sameMac(a: string, b: string): boolean {
  const x = Buffer.from(a);
  const y = Buffer.from(b);
  return x.length === y.length && timingSafeEqual(x, y);
}

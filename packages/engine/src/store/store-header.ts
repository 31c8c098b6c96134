import { randomUUID } from 'node:crypto';
import { EngineError } from '../errors';
import { headerMac, openSlot, sameMac, wrapWithKeyFile, wrapWithPassphrase, type KeySet, type KeySlot } from '../keys/key-set';
import type { Target } from '../targets/target';

/** The plain header of a store: who it is and the slots that wrap its key. */
export interface StoreHeader {
  readonly format: 'lithodex-store';
  readonly version: 1;
  readonly targetId: string;
  readonly domainId: string;
  readonly created: string;
  readonly slots: readonly KeySlot[];
}

interface SignedHeader extends StoreHeader {
  readonly mac: string;
}

const headerName = 'lithodex-store.json';
const headerCopy = 'roots/lithodex-store.json';
export const headerNames = [headerName, headerCopy] as const;

export function newHeader(keys: KeySet, keyFile: Buffer, now: Date, domainId: string = randomUUID()): StoreHeader {
  const targetId = randomUUID();
  return {
    format: 'lithodex-store',
    version: 1,
    targetId,
    domainId,
    created: now.toISOString(),
    slots: [wrapWithKeyFile(keyFile, keys, targetId)],
  };
}

/** Writes the header and its copy beside the roots. Throws TARGET_EXISTS when a store is there already. */
export async function writeHeader(target: Target, keys: KeySet, header: StoreHeader): Promise<void> {
  const file = signedFile(keys, header);
  if (!(await target.putExclusive(headerName, file))) throw new EngineError('TARGET_EXISTS', target.description);
  await target.put(headerCopy, file);
}

/** The header and its copy, as far as they can be read. Throws what kept both from it. */
async function readSigned(target: Target): Promise<SignedHeader[]> {
  const found: SignedHeader[] = [];
  let failure: unknown;
  for (const name of headerNames)
    try {
      found.push(parseSigned(target, await target.read(name)));
    } catch (error) {
      failure ??= error;
      for (const file of await target.readKept(name).catch(() => []))
        try {
          found.push(parseSigned(target, file));
        } catch {
          // put there by somebody else
        }
    }
  if (!found.length) throw failure as Error;
  return found;
}

function parseSigned(target: Target, file: Buffer): SignedHeader {
  try {
    const header = JSON.parse(file.toString()) as SignedHeader;
    if (header.format !== 'lithodex-store') throw new EngineError('STORE_HEADER');
    if (header.version !== 1) throw new EngineError('STORE_VERSION', String(header.version));
    return header;
  } catch (error) {
    throw error instanceof EngineError ? error : new EngineError('STORE_HEADER', target.description, { cause: error });
  }
}

/**
 * Writes the header or its copy anew where one of them is not as the other, sound one; where both are sound the copy counts, as it is written first when slots change. `known` is
 * written where neither is sound. Returns how many were not sound.
 */
export async function mendHeader(target: Target, keys: KeySet, known: StoreHeader): Promise<number> {
  const sound = async (name: string): Promise<Buffer | undefined> => {
    try {
      const file = await target.read(name);
      const { mac, ...header } = parseSigned(target, file);
      return sameMac(headerMac(keys, JSON.stringify(header)), mac) ? file : undefined;
    } catch (error) {
      if (!(error instanceof EngineError) || !['STORE_HEADER', 'STORE_VERSION', 'OBJECT_MISSING'].includes(error.code)) throw error;
      return undefined;
    }
  };
  const [main, copy] = [await sound(headerName), await sound(headerCopy)];
  const right = copy ?? main ?? signedFile(keys, known);
  let mended = 0;
  for (const [name, there] of [
    [headerName, main],
    [headerCopy, copy],
  ] as const) {
    if (there?.equals(right)) continue;
    await replaceHeader(target, name, right);
    // a sound one that differs is of a change of keys that was cut short, and now ends
    if (!there) mended++;
  }
  return mended;
}

/** Writes the header anew with other slots: the copy first, so that a kill in between leaves one that opens. */
export async function replaceSlots(target: Target, keys: KeySet, header: StoreHeader, slots: readonly KeySlot[]): Promise<StoreHeader> {
  const changed: StoreHeader = { ...header, slots };
  const file = signedFile(keys, changed);
  for (const name of [headerCopy, headerName]) await replaceHeader(target, name, file);
  return changed;
}

/** Puts a header in the place of another, with the lock that one had. */
async function replaceHeader(target: Target, name: string, file: Buffer): Promise<void> {
  const locked = await target.lockedUntil(name);
  await target.put(name, file);
  if (locked) await target.lock(name, locked);
}

function signedFile(keys: KeySet, header: StoreHeader): Buffer {
  const signed: SignedHeader = { ...header, mac: headerMac(keys, JSON.stringify(header)) };
  return Buffer.from(`${JSON.stringify(signed, null, 2)}\n`);
}

/** Opens the key with a key file (32 bytes) or a passphrase and checks the header. Throws KEY_WRONG, STORE_HEADER, STORE_VERSION. */
export async function openHeader(target: Target, secret: Buffer | string): Promise<{ header: StoreHeader; keys: KeySet }> {
  const kind = typeof secret === 'string' ? 'passphrase' : 'keyfile';
  let changed = false;
  for (const { mac, ...header } of await readSigned(target))
    for (const slot of header.slots.filter((s) => s.kind === kind)) {
      try {
        const keys = openSlot(slot, secret, header.targetId);
        if (sameMac(headerMac(keys, JSON.stringify(header)), mac)) return { header, keys };
        changed = true;
      } catch (error) {
        if (!(error instanceof EngineError && error.code === 'KEY_WRONG')) throw error;
      }
    }
  throw new EngineError(changed ? 'STORE_HEADER' : 'KEY_WRONG', target.description);
}

/** Checks the header of a store with keys from elsewhere. Throws KEY_WRONG, STORE_HEADER, STORE_VERSION. */
export async function openHeaderWithKeys(target: Target, keys: KeySet): Promise<StoreHeader> {
  for (const { mac, ...header } of await readSigned(target)) if (sameMac(headerMac(keys, JSON.stringify(header)), mac)) return header;
  throw new EngineError('KEY_WRONG', target.description);
}

/** A key envelope: all one needs, with the passphrase, to open the target without the server. */
export interface KeyEnvelope {
  readonly format: 'lithodex-key-envelope';
  readonly version: 1;
  readonly targetId: string;
  readonly target: string;
  readonly slot: KeySlot;
}

export function makeEnvelope(keys: KeySet, header: StoreHeader, target: string, passphrase: string): KeyEnvelope {
  return {
    format: 'lithodex-key-envelope',
    version: 1,
    targetId: header.targetId,
    target,
    slot: wrapWithPassphrase(passphrase, keys, header.targetId),
  };
}

/** An envelope from its file. Throws STORE_HEADER for anything else. */
export function parseEnvelope(text: string): KeyEnvelope {
  try {
    const envelope = JSON.parse(text) as KeyEnvelope;
    if (envelope.format === 'lithodex-key-envelope' && envelope.version === 1) return envelope;
  } catch {
    // told below
  }
  throw new EngineError('STORE_HEADER', 'this is no key envelope');
}

/** Throws KEY_WRONG. */
export function openEnvelope(envelope: KeyEnvelope, passphrase: string): KeySet {
  return openSlot(envelope.slot, passphrase, envelope.targetId);
}

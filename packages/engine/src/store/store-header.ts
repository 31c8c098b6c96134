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
  const signed: SignedHeader = { ...header, mac: headerMac(keys, JSON.stringify(header)) };
  const file = Buffer.from(`${JSON.stringify(signed, null, 2)}\n`);
  if (!(await target.putExclusive(headerName, file))) throw new EngineError('TARGET_EXISTS', target.description);
  await target.put(headerCopy, file);
}

async function readSigned(target: Target): Promise<SignedHeader> {
  const file = await target.read(headerName).catch(() => target.read(headerCopy));
  try {
    const header = JSON.parse(file.toString()) as SignedHeader;
    if (header.format !== 'lithodex-store') throw new EngineError('STORE_HEADER');
    if (header.version !== 1) throw new EngineError('STORE_VERSION', String(header.version));
    return header;
  } catch (error) {
    throw error instanceof EngineError ? error : new EngineError('STORE_HEADER', target.description, { cause: error });
  }
}

/** Opens the key with a key file (32 bytes) or a passphrase and checks the header. Throws KEY_WRONG, STORE_HEADER, STORE_VERSION. */
export async function openHeader(target: Target, secret: Buffer | string): Promise<{ header: StoreHeader; keys: KeySet }> {
  const { mac, ...header } = await readSigned(target);
  const kind = typeof secret === 'string' ? 'passphrase' : 'keyfile';
  for (const slot of header.slots.filter((s) => s.kind === kind)) {
    try {
      const keys = openSlot(slot, secret, header.targetId);
      if (!sameMac(headerMac(keys, JSON.stringify(header)), mac)) throw new EngineError('STORE_HEADER', target.description);
      return { header, keys };
    } catch (error) {
      if (!(error instanceof EngineError && error.code === 'KEY_WRONG')) throw error;
    }
  }
  throw new EngineError('KEY_WRONG', target.description);
}

/** Checks the header of a store with keys from elsewhere. Throws KEY_WRONG, STORE_HEADER, STORE_VERSION. */
export async function openHeaderWithKeys(target: Target, keys: KeySet): Promise<StoreHeader> {
  const { mac, ...header } = await readSigned(target);
  if (!sameMac(headerMac(keys, JSON.stringify(header)), mac)) throw new EngineError('KEY_WRONG', target.description);
  return header;
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

/** Throws KEY_WRONG. */
export function openEnvelope(envelope: KeyEnvelope, passphrase: string): KeySet {
  return openSlot(envelope.slot, passphrase, envelope.targetId);
}

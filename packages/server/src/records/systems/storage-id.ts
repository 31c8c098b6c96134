import { createHash } from 'node:crypto';

/** What a storage of a platform is told by among targets: the same for good, of its names alone (UUID version 8, RFC 9562). */
export function storageId(sourceId: number, storage: string): string {
  const bytes = createHash('sha256').update(`${sourceId}\n${storage}`).digest().subarray(0, 16);
  bytes[6] = (bytes[6]! & 0x0f) | 0x80;
  bytes[8] = (bytes[8]! & 0x3f) | 0x80;
  const hex = bytes.toString('hex');
  return [hex.slice(0, 8), hex.slice(8, 12), hex.slice(12, 16), hex.slice(16, 20), hex.slice(20)].join('-');
}

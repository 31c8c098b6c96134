/**
 * What stands at the start of every record on a cartridge, before the bytes of the object: length of what follows (4 bytes, little endian), then JSON.
 * The first record of a cartridge is its label.
 */
export type RecordHead =
  | { readonly label: { readonly set: string; readonly number: number } }
  | { readonly name: string; readonly bytes: number }
  | { readonly removes: string };

/** Enough for every head. */
export const headLimit = 1024;

/** The record of an object, or of a head alone. */
export function encodeRecord(head: RecordHead, data: Uint8Array = new Uint8Array(0)): Buffer<ArrayBuffer> {
  const json = Buffer.from(JSON.stringify(head));
  const record = Buffer.alloc(4 + json.length + data.length);
  record.writeUInt32LE(json.length);
  record.set(json, 4);
  record.set(data, 4 + json.length);
  return record;
}

/** The head at the start of a record and where the object begins; undefined when it is none of ours. */
export function decodeHead(start: Buffer): { head: RecordHead; at: number } | undefined {
  const length = start.length < 4 ? Infinity : start.readUInt32LE();
  if (length > start.length - 4) return undefined;
  try {
    const head = JSON.parse(start.toString('utf8', 4, 4 + length)) as RecordHead;
    return typeof head === 'object' ? { head, at: 4 + length } : undefined;
  } catch {
    return undefined;
  }
}

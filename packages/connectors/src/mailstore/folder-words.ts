import { toBytes } from '@lithodex/core';

const utf8 = new TextDecoder('utf-8', { fatal: true });

function utf16(coded: string): string {
  const bytes = Buffer.from(coded.replaceAll(',', '/'), 'base64');
  return bytes
    .subarray(0, bytes.length & ~1)
    .swap16()
    .toString('utf16le');
}

/** Name of a folder as it stands in a mail store, byte string: modified UTF-7 (RFC 3501), or UTF-8, or byte by byte. */
export function folderWords(name: string): string {
  if (/^[\x20-\x7e]*$/.test(name)) return name.replace(/&([A-Za-z0-9+,]*)-/g, (_, coded: string) => (coded === '' ? '&' : utf16(coded)));
  const bytes = toBytes(name);
  try {
    return utf8.decode(bytes);
  } catch {
    return Buffer.from(bytes).toString('latin1');
  }
}

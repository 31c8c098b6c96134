import { bytesOfText, toBytes } from './byte-path';

/** Names of objects that are no file names as names of items: `~`, `/`, control characters and a first dot become `~` and two hexadecimal digits. Returns a byte string. */
export function itemNameOf(name: string): string {
  const escaped = name.replace(/[~/\0-\x1f\x7f]|^\./g, (c) => `~${c.charCodeAt(0).toString(16).padStart(2, '0')}`);
  return bytesOfText(escaped);
}

const decoder = new TextDecoder('utf-8', { ignoreBOM: true });

/** Inverse of {@link itemNameOf}. */
export function objectNameOf(item: string): string {
  return decoder.decode(toBytes(item)).replace(/~([0-9a-f]{2})/g, (_, hex: string) => String.fromCharCode(parseInt(hex, 16)));
}

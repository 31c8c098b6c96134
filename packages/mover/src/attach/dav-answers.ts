import type { TreeEntry } from '@lithodex/engine';

/** Bytes of a name in an address. */
export function hrefOf(path: string): string {
  return Buffer.from(path, 'latin1').reduce(
    (text, byte) =>
      text +
      (/[\w.~/-]/.test(String.fromCharCode(byte)) ? String.fromCharCode(byte) : `%${byte.toString(16).toUpperCase().padStart(2, '0')}`),
    '',
  );
}

/** Path (byte string, without a slash at its ends) that an address asks for; undefined for what is none. */
export function pathOfHref(url: string): string | undefined {
  const raw = /^[^?#]*/.exec(url)![0];
  if (!raw.startsWith('/')) return undefined;
  if (/%(?![0-9A-Fa-f]{2})/.test(raw)) return undefined;
  const bytes = Buffer.from(raw, 'utf8')
    .toString('latin1')
    .replace(/%([0-9A-Fa-f]{2})/g, (_, hex: string) => String.fromCharCode(parseInt(hex, 16)));
  const parts = bytes.split('/').filter((part) => part !== '');
  return parts.some((part) => part === '.' || part === '..' || part.includes('\0')) ? undefined : parts.join('/');
}

/** What tells that a file is still the same. */
export const etagOf = (entry: TreeEntry): string => `"${entry.size.toString(36)}-${entry.mtimeNs.toString(36)}"`;

export const modifiedOf = (entry: TreeEntry): string => {
  const ms = Number(entry.mtimeNs / 1_000_000n);
  return new Date(Math.max(0, Math.min(ms, 253_402_300_799_000))).toUTCString();
};

export const multistatusBegin = '<?xml version="1.0" encoding="utf-8"?>\n<D:multistatus xmlns:D="DAV:">';
export const multistatusEnd = '</D:multistatus>';

/** What a client is told of an item (RFC 4918, 9.1). */
export function responseOf(path: string, entry: TreeEntry): string {
  const folder = entry.kind === 'folder';
  const href = `/${hrefOf(path)}${folder && path !== '' ? '/' : ''}`;
  const own = folder
    ? '<D:resourcetype><D:collection/></D:resourcetype>'
    : `<D:resourcetype/><D:getcontentlength>${entry.size}</D:getcontentlength><D:getcontenttype>application/octet-stream</D:getcontenttype><D:getetag>${etagOf(entry)}</D:getetag>`;
  const prop = `${own}<D:getlastmodified>${modifiedOf(entry)}</D:getlastmodified><D:supportedlock/>`;
  return `<D:response><D:href>${href}</D:href><D:propstat><D:prop>${prop}</D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>`;
}

/** The stretch that is asked for (RFC 9110, 14.2): undefined for all of it, null for what can't be. Of several only the whole is given. */
export function rangeOf(header: string | undefined, size: number): { readonly from: number; readonly to: number } | undefined | null {
  const asked = /^bytes=(\d*)-(\d*)$/.exec(header ?? '');
  if (!asked || (asked[1] === '' && asked[2] === '')) return undefined;
  const from = asked[1] === '' ? Math.max(0, size - Number(asked[2])) : Number(asked[1]);
  const to = asked[1] === '' || asked[2] === '' ? size : Math.min(size, Number(asked[2]) + 1);
  return from < to ? { from, to } : null;
}

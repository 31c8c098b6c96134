/**
 * Names in data may be any bytes. Inside Lithodex a name is a *byte string*: one JavaScript character (0–255) per byte, so that comparing
 * two strings compares bytes. On the wire and on screen it is an *escaped path*: UTF-8 text in which every byte that is not part of
 * valid UTF-8, every control character and the percent sign stand as %XX. Escaping is reversible.
 */
const decoder = new TextDecoder('utf-8', { fatal: true, ignoreBOM: true });
const encoder = new TextEncoder();

/** Byte string of a text, as UTF-8. */
export function bytesOfText(text: string): string {
  return fromBytes(encoder.encode(text));
}

/** Byte string of raw bytes. */
export function fromBytes(bytes: Uint8Array): string {
  let out = '';
  for (let i = 0; i < bytes.length; i += 4096) out += String.fromCharCode(...bytes.subarray(i, i + 4096));
  return out;
}

/** Raw bytes of a byte string. */
export function toBytes(byteString: string): Uint8Array {
  const out = new Uint8Array(byteString.length);
  for (let i = 0; i < out.length; i++) out[i] = byteString.charCodeAt(i);
  return out;
}

const hex = (n: number) => '%' + n.toString(16).toUpperCase().padStart(2, '0');
/** Control characters, percent, line and paragraph separators, and the marks that reorder or hide text on screen. */
const unsafeText = /[\u0000-\u001f\u007f-\u009f%\u2028\u2029\u200b-\u200f\u202a-\u202e\u2066-\u2069\ufeff]/;

function sequenceLength(lead: number): number {
  return lead < 0x80 ? 1 : lead >= 0xc2 && lead <= 0xdf ? 2 : lead >= 0xe0 && lead <= 0xef ? 3 : lead >= 0xf0 && lead <= 0xf4 ? 4 : 0;
}

/** Escaped form of a byte string; safe to print, to put into JSON and into a URL query after the usual encoding. */
export function escapePath(byteString: string): string {
  if (/^[ -$&-~]*$/.test(byteString)) return byteString;
  const bytes = toBytes(byteString);
  let out = '';
  for (let i = 0; i < bytes.length;) {
    const length = sequenceLength(bytes[i]!);
    const slice = bytes.subarray(i, i + Math.max(1, length));
    let text: string | undefined;
    if (length > 0 && slice.length === length) {
      try {
        text = decoder.decode(slice);
      } catch {
        text = undefined;
      }
    }
    if (text === undefined) {
      out += hex(bytes[i]!);
      i++;
    } else {
      out += unsafeText.test(text) ? [...slice].map(hex).join('') : text;
      i += length;
    }
  }
  return out;
}

/** Byte string of an escaped path. A percent sign that starts no escape stands for itself. */
export function unescapePath(escaped: string): string {
  return escaped
    .split(/(%[0-9A-Fa-f]{2})/)
    .map((part) => (/^%[0-9A-Fa-f]{2}$/.test(part) ? String.fromCharCode(parseInt(part.slice(1), 16)) : bytesOfText(part)))
    .join('');
}

/** Joins a folder path ('' is the root) and a name. */
export function joinPath(folder: string, name: string): string {
  return folder === '' ? name : `${folder}/${name}`;
}

/** Absolute path of what lies at `path` below an absolute folder, which may be that of a host (`/`); '' is the folder itself. */
export function pathBelow(folder: string, path: string): string {
  if (!path) return folder;
  return folder === '/' ? `/${path}` : `${folder}/${path}`;
}

/** Folder part of a path; '' for an entry of the root. */
export function parentPath(path: string): string {
  const cut = path.lastIndexOf('/');
  return cut < 0 ? '' : path.slice(0, cut);
}

/** Last part of a path. */
export function baseName(path: string): string {
  return path.slice(path.lastIndexOf('/') + 1);
}

/** An absolute path below an absolute folder; '' is the folder itself. */
export function absoluteBelow(folder: string, path: string): string {
  return path === '' ? folder : `${folder === '/' ? '' : folder}/${path}`;
}

/** Parts of a relative path, or undefined when it is not a plain path below a folder ('..', '.', empty part, NUL). */
export function safeParts(path: string): string[] | undefined {
  if (path === '') return [];
  const parts = path.split('/');
  return parts.some((part) => part === '' || part === '.' || part === '..' || part.includes('\0')) ? undefined : parts;
}

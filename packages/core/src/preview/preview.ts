/** What can be shown of a file without running any of it. */
export type Preview =
  | { readonly as: 'text'; readonly text: string }
  | { readonly as: 'image'; readonly type: string }
  | { readonly as: 'bytes'; readonly rows: readonly string[] };

const mostText = 200_000;
const shownBytes = 512;
const perRow = 16;

/** Front of the formats of images that hold nothing that runs. */
const images: readonly (readonly [string, string, number])[] = [
  ['\x89PNG\r\n\x1a\n', 'image/png', 0],
  ['\xff\xd8\xff', 'image/jpeg', 0],
  ['GIF87a', 'image/gif', 0],
  ['GIF89a', 'image/gif', 0],
  ['BM', 'image/bmp', 0],
  ['WEBP', 'image/webp', 8],
];

/** Decides by the bytes at the front of a file how it is shown; `whole`: these are all of them. */
export function previewOf(data: Uint8Array, whole: boolean): Preview {
  const front = String.fromCharCode(...data.subarray(0, 16));
  const image = images.find(([sign, , at]) => front.startsWith(sign, at));
  if (image && whole) return { as: 'image', type: image[1] };
  const text = image ? undefined : textOf(data, whole);
  return text === undefined ? { as: 'bytes', rows: rowsOf(data) } : { as: 'text', text: text.slice(0, mostText) };
}

/** Text of UTF-8, or of UTF-16 that says so at its front; undefined for what is none. */
function textOf(data: Uint8Array, whole: boolean): string | undefined {
  const mark = data.length >= 2 ? (data[0]! << 8) | data[1]! : 0;
  const encoding = mark === 0xfffe ? 'utf-16le' : mark === 0xfeff ? 'utf-16be' : 'utf-8';
  let text: string;
  try {
    text = new TextDecoder(encoding, { fatal: true }).decode(data, { stream: !whole });
  } catch {
    return undefined;
  }
  // control characters other than tabs, ends of lines and pages are signs of something else
  return /[\0-\x08\x0e-\x1a\x1c-\x1f\x7f]/.test(text) ? undefined : text;
}

/** Rows of an offset, sixteen bytes in hexadecimal, and what of them is plain text. */
function rowsOf(data: Uint8Array): string[] {
  const rows: string[] = [];
  for (let at = 0; at < Math.min(data.length, shownBytes); at += perRow) {
    const bytes = [...data.subarray(at, Math.min(at + perRow, shownBytes))];
    const hex = bytes.map((byte) => byte.toString(16).padStart(2, '0')).join(' ');
    const plain = bytes.map((byte) => (byte >= 32 && byte < 127 ? String.fromCharCode(byte) : '·')).join('');
    rows.push(`${at.toString(16).padStart(4, '0')}  ${hex.padEnd(perRow * 3 - 1)}  ${plain}`);
  }
  return rows;
}

import libmime from 'libmime';
import type { ItemOfMail } from '@lithodex/kinds';

/** Parts smaller than this are not worth a place of their own in the store. */
const cutFrom = 16 << 10;
/** Headers that are looked at, bytes. */
const mostHeaders = 256 << 10;
const mostParts = 500;
const mostDepth = 20;
const lineEnd = Buffer.from('\n');

/** The first header of each name, in small letters. */
type Headers = ReadonlyMap<string, string>;

/** A part of a message, as offsets into its bytes. */
interface MimePart {
  readonly headers: Headers;
  readonly bodyAt: number;
  readonly end: number;
}

type Facts = Omit<ItemOfMail, 'uid' | 'at' | 'flags' | 'sum'>;

/** What a message says of itself, and where large parts of it begin and end, so that the same attachment in two messages is stored once. */
export function readMessage(bytes: Buffer): { readonly facts: Facts; readonly cuts: readonly number[] } {
  const top = partAt(bytes, 0, bytes.length);
  const files: Facts['files'] = [];
  const cuts: number[] = [];
  const budget = { left: mostParts };
  visit(bytes, top, 0, budget, (part, type) => {
    if (type !== 'multipart' && part.end - part.bodyAt >= cutFrom) cuts.push(part.bodyAt, part.end);
    const name = nameOf(part.headers);
    if (name && type !== 'multipart' && files.length < 200) files.push({ name: name.slice(0, 300), size: sizeOf(part) });
  });
  const text = (key: string, most: number) => {
    const value = headerOf(top.headers, key);
    return plain(value.includes('=?') ? libmime.decodeWords(value) : value).slice(0, most);
  };
  return {
    facts: {
      type: 'message',
      id: headerOf(top.headers, 'message-id').trim().slice(0, 1000),
      subject: text('subject', 1000),
      from: text('from', 400),
      to: [text('to', 1500), text('cc', 480)].filter(Boolean).join(', '),
      files,
    },
    cuts: cuts.filter((at) => at > 0 && at < bytes.length),
  };
}

/** Bytes that a part holds once it is decoded, about. */
function sizeOf({ headers, bodyAt, end }: MimePart): number {
  const raw = end - bodyAt;
  return /^base64$/i.test(headerOf(headers, 'content-transfer-encoding')) ? Math.floor((raw * 3) / 4.1) : raw;
}

/** Text on one line, without what can't be seen. */
const plain = (text: string) =>
  text
    .replace(/[\p{Cc}\p{Cs}\u2028\u2029]+/gu, ' ')
    .replace(/ {2,}/g, ' ')
    .trim();

function partAt(bytes: Buffer, from: number, to: number): MimePart {
  let at = from;
  while (at < to) {
    const end = bytes.indexOf(lineEnd, at);
    if (end < 0 || end >= to) return { headers: headersOf(bytes, from, to), bodyAt: to, end: to };
    if (end === at || (end === at + 1 && bytes[at] === 13)) return { headers: headersOf(bytes, from, at), bodyAt: end + 1, end: to };
    at = end + 1;
  }
  return { headers: headersOf(bytes, from, to), bodyAt: to, end: to };
}

function headersOf(bytes: Buffer, from: number, to: number): Headers {
  const found = new Map<string, string>();
  const text = bytes.toString('utf8', from, Math.min(to, from + mostHeaders));
  for (const line of text.replace(/\r?\n[ \t]+/g, ' ').split('\n')) {
    const colon = line.indexOf(':');
    if (colon <= 0) continue;
    const name = line.slice(0, colon).toLowerCase();
    if (!found.has(name)) found.set(name, line.slice(colon + 1).trim());
  }
  return found;
}

const headerOf = (headers: Headers, name: string): string => headers.get(name) ?? '';

const parameterOf = (value: string) => {
  try {
    return libmime.parseHeaderValue(value);
  } catch {
    return { value: '', params: {} as Record<string, string> };
  }
};

function nameOf(headers: Headers): string {
  const disposition = headerOf(headers, 'content-disposition');
  const type = headerOf(headers, 'content-type');
  if (!/name/i.test(disposition + type)) return '';
  const name = parameterOf(disposition).params['filename'] ?? parameterOf(type).params['name'] ?? '';
  return plain(libmime.decodeWords(name));
}

function visit(bytes: Buffer, part: MimePart, depth: number, budget: { left: number }, each: (part: MimePart, type: string) => void): void {
  const contentType = headerOf(part.headers, 'content-type');
  const isMultipart = /^multipart\//i.test(contentType);
  each(part, isMultipart ? 'multipart' : 'single');
  if (!isMultipart || depth >= mostDepth) return;
  const boundary = parameterOf(contentType).params['boundary'];
  if (!boundary) return;
  const mark = Buffer.from(`--${boundary}`);
  let begin = -1;
  for (let at = bytes.indexOf(mark, part.bodyAt); at >= 0 && at < part.end; at = bytes.indexOf(mark, at + mark.length)) {
    if (at > part.bodyAt && bytes[at - 1] !== 10) continue;
    if (begin >= 0) {
      if (budget.left-- <= 0) return;
      visit(bytes, partAt(bytes, begin, at), depth + 1, budget, each);
    }
    const end = bytes.indexOf(lineEnd, at);
    if (end < 0 || bytes.toString('latin1', at + mark.length, at + mark.length + 2) === '--') return;
    begin = end + 1;
  }
  if (begin >= 0 && begin < part.end) visit(bytes, partAt(bytes, begin, part.end), depth + 1, budget, each);
}

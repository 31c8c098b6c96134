import { isUtf8 } from 'node:buffer';
import { textOfPdfBytes, textOfXml } from '../work/document-text';
import { looksLikeMail } from './parts-within';

const frontLooked = 4096;
/** Shares of the front from which on it is no text: of signs that no text has, and of those beyond ASCII where it is not UTF-8. */
const mostControls = 0.005;
const mostForeign = 0.25;

const isControl = (byte: number) => byte < 9 || (byte > 13 && byte < 32 && byte !== 27);

function shareOf(front: Buffer, counts: (byte: number) => boolean): number {
  let sum = 0;
  for (const byte of front) if (counts(byte)) sum++;
  return sum / Math.max(1, front.length);
}

/** The text that is looked into of a content; undefined for none. What a message says is looked into where it is read as text. */
export async function textIn(content: Buffer): Promise<string | undefined> {
  if (content.subarray(0, 5).toString('latin1') === '%PDF-') return textOfPdfBytes(content);
  return looksLikeMail(content) ? undefined : textOf(content);
}

/** The text of a content; undefined for what is none. Marks of XML and HTML are left out, as what stands in cells and paragraphs counts. */
export function textOf(data: Buffer): string | undefined {
  if (data.length >= 2 && ((data[0] === 0xff && data[1] === 0xfe) || (data[0] === 0xfe && data[1] === 0xff))) {
    const swapped = data[0] === 0xfe ? Buffer.from(data.subarray(0, data.length & ~1)).swap16() : data;
    return swapped.toString('utf16le');
  }
  const front = data.subarray(0, frontLooked);
  if (shareOf(front, isControl) > mostControls) return undefined;
  // texts of one byte for each sign are read as such: what is looked for in them is of ASCII
  const inUtf8 = isUtf8(data);
  if (!inUtf8 && shareOf(front, (byte) => byte > 0x7e) > mostForeign) return undefined;
  const text = data.toString(inUtf8 ? 'utf8' : 'latin1');
  return /^\s*<(?:\?xml|!doctype|html|w:|office:)/i.test(text.slice(0, 200)) ? textOfXml(text) : text;
}

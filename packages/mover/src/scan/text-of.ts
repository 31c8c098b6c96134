import { isUtf8 } from 'node:buffer';
import { textOfXml } from '../work/document-text';

const frontLooked = 4096;

/** The text of a content; undefined for what is none. Marks of XML and HTML are left out, as what stands in cells and paragraphs counts. */
export function textOf(data: Buffer): string | undefined {
  if (data.length >= 2 && ((data[0] === 0xff && data[1] === 0xfe) || (data[0] === 0xfe && data[1] === 0xff))) {
    const swapped = data[0] === 0xfe ? Buffer.from(data.subarray(0, data.length & ~1)).swap16() : data;
    return swapped.toString('utf16le');
  }
  const front = data.subarray(0, frontLooked);
  if (front.includes(0)) return undefined;
  // texts of one byte for each sign are read as such: what is looked for in them is of ASCII
  const text = isUtf8(data) ? data.toString('utf8') : data.toString('latin1');
  return /^\s*<(?:\?xml|!doctype|html|w:|office:)/i.test(text.slice(0, 200)) ? textOfXml(text) : text;
}

import { SourceError } from '../../source-error';

const insertInto = 'INSERT INTO `';
const values = ' VALUES ';

/** Where the name ends that begins after an opening backtick at `from`. */
function nameEnd(text: string, from: number): number {
  for (let at = from; ; at++) {
    at = text.indexOf('`', at);
    if (at < 0) throw new SourceError('DUMP_UNREADABLE', 'a name without an end');
    if (text[at + 1] !== '`') return at + 1;
    at++;
  }
}

/** Length of what a statement of rows (a character a byte) says up to the row: "INSERT INTO `name` VALUES ", with names of columns where some are computed. Throws SourceError for one of another form. */
export function openingLength(text: string): number {
  let at = nameEnd(text, insertInto.length);
  if (text.startsWith(' (`', at)) {
    for (at += 3; ;) {
      at = nameEnd(text, at);
      if (text[at] === ')') break;
      at = text.indexOf('`', at) + 1;
    }
    at++;
  }
  if (!text.startsWith(values, at)) throw new SourceError('DUMP_UNREADABLE', 'a statement of another form');
  return at + values.length;
}

import Table from 'cli-table3';

const none = {
  top: '',
  'top-mid': '',
  'top-left': '',
  'top-right': '',
  bottom: '',
  'bottom-mid': '',
  'bottom-left': '',
  'bottom-right': '',
};
const plain = { ...none, left: '', 'left-mid': '', mid: '', 'mid-mid': '', right: '', 'right-mid': '', middle: '  ' };

/** Text without what a terminal would take as a command: names of others stand in it. */
export const harmless = (text: string): string => text.replaceAll(/[\u0000-\u001f\u007f-\u009f\u202a-\u202e\u2066-\u2069]/g, '\ufffd');

/** Rows below headings. Columns whose heading begins with ">" stand at the right. */
export function table(heads: readonly string[], rows: readonly (readonly string[])[], empty = 'Nothing.'): string {
  if (!rows.length) return empty;
  const made = new Table({
    head: heads.map((h) => h.replace(/^>/, '')),
    chars: plain,
    style: { head: [], border: [], 'padding-left': 0, 'padding-right': 0 },
    colAligns: heads.map((h) => (h.startsWith('>') ? 'right' : 'left')),
  });
  made.push(...rows.map((row) => row.map(harmless)));
  return made
    .toString()
    .split('\n')
    .map((line) => line.trimEnd())
    .join('\n');
}

/** Pairs, one a line. */
export const pairs = (rows: readonly (readonly [string, string])[]): string => table(['', ''], rows).split('\n').slice(1).join('\n');

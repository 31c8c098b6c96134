import { SourceError } from '../../source-error';

/** Index after the quoted text or comment that begins at `at`, or `at` itself where none does; undefined where its end is not in `text`. */
function skipQuoted(text: string, at: number): number | undefined {
  const c = text[at]!;
  if (c === "'" || c === '"' || c === '`') {
    for (let i = at + 1; i < text.length; i++) {
      if (text[i] === '\\' && c !== '`') i++;
      else if (text[i] === c) {
        if (text[i + 1] !== c) return i + 1;
        i++;
      }
    }
    return undefined;
  }
  const until = (end: string) => {
    const found = text.indexOf(end, at);
    return found < 0 ? undefined : found + end.length;
  };
  if (c === '#' || text.startsWith('-- ', at)) return until('\n');
  // what such comments hold is read by the server, so it is looked at
  if (text.startsWith('/*', at) && text[at + 2] !== '!' && text[at + 2] !== 'M') return until('*/');
  return at;
}

/** Index after the `;` that ends the statement beginning at `from`; undefined where its end is not in `text`. */
export function statementEnd(text: string, from: number): number | undefined {
  for (let at = from; at < text.length; at++) {
    if (text[at] === ';') return at + 1;
    const next = skipQuoted(text, at);
    if (next === undefined) return undefined;
    if (next > at) at = next - 1;
  }
  return undefined;
}

/** Indexes of the commas between the parts in the outermost brackets, the brackets themselves first and last. */
function outerParts(text: string): number[] {
  const found: number[] = [];
  let depth = 0;
  for (let at = 0; at < text.length; at++) {
    const next = skipQuoted(text, at);
    if (next === undefined) break;
    if (next > at) at = next - 1;
    else if (text[at] === '(') {
      if (depth++ === 0) found.push(at);
    } else if (text[at] === ')') {
      if (--depth === 0) return [...found, at];
    } else if (text[at] === ',' && depth === 1) found.push(at);
  }
  throw new SourceError('DUMP_UNREADABLE', 'a table without columns');
}

export interface SplitTable {
  /** Makes the table under another name, with these keys to other tables. */
  readonly make: (quotedName: string, keys: readonly string[]) => string;
  /** Keys to other tables, as parts of such a statement. */
  readonly keys: readonly string[];
  /** Some of its columns are computed and stored. */
  readonly computes: boolean;
}

const named = /^\s*(?:CONSTRAINT\s+`(?:[^`]|``)+`\s+)?FOREIGN\s+KEY/i;

/** Takes a CREATE TABLE statement apart. Throws SourceError. */
export function splitTable(statement: string): SplitTable {
  const name = /^\s*CREATE\s+TABLE\s+(`(?:[^`]|``)+`)/i.exec(statement);
  if (!name) throw new SourceError('DUMP_UNREADABLE', 'no statement that makes a table');
  const rest = statement.slice(name[0].length);
  const places = outerParts(rest);
  const parts = places.slice(1).map((to, i) => rest.slice(places[i]! + 1, to));
  const keys = parts.filter((p) => named.test(p)).map((p) => p.trim());
  const own = parts.filter((p) => !named.test(p)).map((p) => p.trim());
  const tail = rest.slice(places.at(-1)! + 1).trim();
  const computes = own.some((p) => /\b(GENERATED ALWAYS )?AS \(.*\) (STORED|PERSISTENT)/is.test(p));
  const make: SplitTable['make'] = (quotedName, others) =>
    `CREATE TABLE ${quotedName} (\n  ${[...own, ...others].join(',\n  ')}\n) ${tail}`;
  return { make, keys, computes };
}

/** The statements of a text that was written for the client program: each as the server takes it. */
export function statementsOf(text: string): string[] {
  const found: string[] = [];
  let delimiter = ';';
  for (let at = 0; at < text.length;) {
    const word = /^\s*DELIMITER (\S+)\n/.exec(text.slice(at, at + 100));
    if (word) {
      delimiter = word[1]!;
      at += word[0].length;
      continue;
    }
    const own = text.indexOf(`${delimiter}\n`, at);
    const end = delimiter === ';' ? statementEnd(text, at) : own < 0 ? undefined : own + delimiter.length;
    if (end === undefined) break;
    const statement = text.slice(at, end - delimiter.length).trim();
    if (statement) found.push(statement);
    at = end;
  }
  return found;
}

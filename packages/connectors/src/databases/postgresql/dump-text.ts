/** One object as the family's dump program writes it: a heading in a comment, then statements. */
export interface DumpEntry {
  readonly type: string;
  /** '-' where it is in none. */
  readonly schema: string;
  readonly name: string;
  /** With its heading. */
  readonly text: string;
}

const heading = /^-- Name: (.*); Type: ([A-Z ]+); Schema: (.*); Owner: .*$/;
const settingBehind = /\n\n(SET default_table_access_method = [^\n;]*;)$/;
const isNamePart = (c: string | undefined) => c !== undefined && /[\w$\u0080-\uffff]/.test(c);

/** Index after the quoted text, quoted name or comment that begins at `at`; `at` itself where none does. What has no end ends with the text. */
function skipQuoted(text: string, at: number): number {
  const c = text[at]!;
  const after = (end: string, from: number) => {
    const found = text.indexOf(end, from);
    return found < 0 ? text.length : found + end.length;
  };
  if (c === "'" || c === '"') {
    const escapes = c === "'" && /e/i.test(text[at - 1] ?? '') && !isNamePart(text[at - 2]);
    for (let i = at + 1; i < text.length; i++) {
      if (escapes && text[i] === '\\') i++;
      else if (text[i] === c) {
        if (text[i + 1] !== c) return i + 1;
        i++;
      }
    }
    return text.length;
  }
  if (c === '-' && text[at + 1] === '-') return after('\n', at);
  if (c === '/' && text[at + 1] === '*') {
    let depth = 1;
    let i = at + 2;
    while (depth > 0 && i < text.length) {
      const step = text.startsWith('/*', i) ? 1 : text.startsWith('*/', i) ? -1 : 0;
      depth += step;
      i += step === 0 ? 1 : 2;
    }
    return i;
  }
  if (c === '$' && !isNamePart(text[at - 1])) {
    const tag = /^\$(?:[A-Za-z_\u0080-\uffff][\w\u0080-\uffff]*)?\$/.exec(text.slice(at, at + 130))?.[0];
    if (tag) return after(tag, at + tag.length);
  }
  return at;
}

/** The objects of a dump, in its order. What stands before the first heading is left out, and so is what the program says at its end. */
export function entriesOf(dump: string): DumpEntry[] {
  const found: { type: string; schema: string; name: string; from: number }[] = [];
  let end: number | undefined;
  for (let at = 0; at < dump.length;) {
    const next = skipQuoted(dump, at);
    if (next === at) {
      at++;
      continue;
    }
    if (dump.startsWith('-- ', at) && (at === 0 || dump[at - 1] === '\n')) {
      const line = dump.slice(at, next).trimEnd();
      const head = heading.exec(line);
      if (head) found.push({ name: head[1]!, type: head[2]!, schema: head[3]!, from: at });
      else if (line === '-- PostgreSQL database dump complete') end = at;
    }
    at = next;
  }
  // a line of two dashes stands before each heading
  const begin = (from: number) => dump.lastIndexOf('--\n', from - 1);
  /** What was set behind one object holds for the next ones. */
  let carried = '';
  return found.map(({ from, ...entry }, i) => {
    const next = found[i + 1]?.from ?? end;
    const to = next === undefined ? dump.length : begin(next);
    const text = dump.slice(begin(from), to).trimEnd();
    const set = settingBehind.exec(text);
    const own = set ? text.slice(0, set.index) : text;
    const body = carried ? own.replace(/\n--\n\n/, (line) => `${line}${carried}\n\n`) : own;
    carried = set?.[1] ?? '';
    return { ...entry, text: `${body}\n` };
  });
}

/** Quotes a name. */
export const quoted = (name: string): string => `"${name.replaceAll('"', '""')}"`;
/** Quotes a text. */
export const quotedText = (text: string): string => `'${text.replaceAll("'", "''")}'`;

const plainName = /^[a-z_][a-z0-9_$]*$/;
/** Name of a table with its schema, as people write it: quoted where it has to be. */
export const qualified = (schema: string, name: string): string =>
  [schema, name].map((part) => (plainName.test(part) ? part : quoted(part))).join('.');

const onePart = /^(?:"((?:[^"]|"")*)"|([^."]+))/;
/** Schema and name of what {@link qualified} wrote; undefined for anything else. */
export function partsOf(text: string): { readonly schema: string; readonly name: string } | undefined {
  const read = (from: string) => {
    const part = onePart.exec(from);
    return part && { value: part[1]?.replaceAll('""', '"') ?? part[2]!, rest: from.slice(part[0].length) };
  };
  const schema = read(text);
  if (!schema?.rest.startsWith('.')) return undefined;
  const name = read(schema.rest.slice(1));
  return name?.rest === '' ? { schema: schema.value, name: name.value } : undefined;
}

/** Where the statement stands that rows follow in a table's text; undefined where its end is not in the text. */
export function copyStatement(text: string): { readonly from: number; readonly to: number } | undefined {
  let from: number | undefined;
  for (let at = 0; at < text.length;) {
    if (from === undefined && text.startsWith('COPY ', at) && (at === 0 || text[at - 1] === '\n')) from = at;
    if (from !== undefined && text[at] === ';') return text[at + 1] === '\n' ? { from, to: at + 2 } : undefined;
    const next = skipQuoted(text, at);
    at = next === at ? at + 1 : next;
  }
  return undefined;
}

const anyName = /"(?:[^"]|"")*"|[A-Za-z_\u0080-\uffff][\w$\u0080-\uffff]*/y;
const valueOf = (token: string) => (token.startsWith('"') ? token.slice(1, -1).replaceAll('""', '"') : token);

/** What stands for names in the statements of a table that is made under another name. */
export interface Renaming {
  readonly schema: string;
  /** Tables and sequences of that schema. */
  readonly relations: ReadonlyMap<string, string>;
  /** Keys, checks and indexes, where they are made or named. */
  readonly own: (name: string) => string;
}

/** Statements with other names: of relations where they stand behind their schema, of what the table brings with it behind CONSTRAINT, INDEX and CLUSTER ON. */
export function renamed(text: string, { schema, relations, own }: Renaming): string {
  let out = '';
  let before = '';
  /** The name before a dot. */
  let owner: string | undefined;
  for (let at = 0; at < text.length;) {
    const c = text[at]!;
    anyName.lastIndex = at;
    const token = c === '"' || !isNamePart(text[at - 1]) ? anyName.exec(text)?.[0] : undefined;
    if (token) {
      const value = valueOf(token);
      const other = owner === schema ? relations.get(value) : undefined;
      const isOwn = /^(CONSTRAINT|INDEX|CLUSTER ON)$/.test(before) && !/^(ON|IF)$/.test(token);
      out += other !== undefined ? quoted(other) : isOwn ? quoted(own(value)) : token;
      owner = text[at + token.length] === '.' ? value : undefined;
      before = token === 'ON' && before === 'CLUSTER' ? 'CLUSTER ON' : token;
      at += token.length;
      continue;
    }
    const next = c === '.' ? at : skipQuoted(text, at);
    if (next > at) {
      owner = undefined;
      out += text.slice(at, next);
      at = next;
    } else {
      out += c;
      if (c !== '.') owner = undefined;
      if (!/\s|\./.test(c)) before = '';
      at++;
    }
  }
  return out;
}

const numberOf = /\b(nextval|setval)\('((?:[^']|'')*)'/g;

/** The same for sequences that stand as texts in calls. */
export function renamedNumbers(text: string, schema: string, relations: ReadonlyMap<string, string>): string {
  return text.replace(numberOf, (call, verb: string, written: string) => {
    const at = partsOf(written.replaceAll("''", "'"));
    const other = at?.schema === schema ? relations.get(at.name) : undefined;
    return other === undefined ? call : `${verb}(${quotedText(`${quoted(schema)}.${quoted(other)}`)}`;
  });
}

/** As the dump program writes names into headings. */
export const inHeading = (text: string): string => text.replace(/[\r\n]/g, ' ');

/** A statement with a heading as the dump program writes one. */
export function headed({ type, schema, name }: Omit<DumpEntry, 'text'>, statement: string): string {
  return `--\n-- Name: ${inHeading(name)}; Type: ${type}; Schema: ${inHeading(schema)}; Owner: -\n--\n\n${statement}\n\n`;
}

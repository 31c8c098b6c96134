import { parentPath } from '../paths/byte-path';

/**
 * Patterns as gitignore(5) reads them, matched in at most pattern × text steps: as regular expressions they can take time without end, and whoever names files or writes patterns could stop a server with them.
 */
type Token =
  | { readonly is: 'text'; readonly text: string }
  | { readonly is: 'any' }
  | { readonly is: 'one' }
  | { readonly is: 'set'; readonly not: boolean; readonly ranges: readonly (readonly [number, number])[] };

/** One part of a pattern between slashes; `deep` stands for any number of folders. */
type Part = 'deep' | readonly Token[];

interface Pattern {
  readonly again: boolean;
  readonly foldersOnly: boolean;
  readonly parts: readonly Part[];
}

/** Reads one line; undefined for a comment or an empty one. */
function patternOf(line: string): Pattern | undefined {
  let text = line.replace(/\r$/, '');
  while (text.endsWith(' ') && !text.endsWith('\\ ')) text = text.slice(0, -1);
  if (text === '' || text.startsWith('#')) return undefined;
  const again = text.startsWith('!');
  if (again) text = text.slice(1);
  if (text === '') return undefined;
  const foldersOnly = text.endsWith('/') && !text.endsWith('\\/');
  if (foldersOnly) text = text.slice(0, -1);
  const anchored = text.includes('/');
  if (text.startsWith('/')) text = text.slice(1);
  const names = text.split('/');
  const parts = names.map((name): Part => (name === '**' ? 'deep' : tokensOf(name)));
  // a pattern without a slash matches at any depth
  return { again, foldersOnly, parts: anchored ? parts : ['deep', ...parts] };
}

function tokensOf(text: string): Token[] {
  const tokens: Token[] = [];
  const add = (char: string) => {
    const last = tokens.at(-1);
    if (last?.is === 'text') tokens[tokens.length - 1] = { is: 'text', text: last.text + char };
    else tokens.push({ is: 'text', text: char });
  };
  for (let i = 0; i < text.length; i++) {
    const char = text[i]!;
    if (char === '\\' && i + 1 < text.length) add(text[++i]!);
    else if (char === '*') {
      if (tokens.at(-1)?.is !== 'any') tokens.push({ is: 'any' });
    } else if (char === '?') tokens.push({ is: 'one' });
    else if (char === '[') {
      const set = setAt(text, i);
      if (set) {
        tokens.push(set.token);
        i = set.end;
      } else add(char);
    } else add(char);
  }
  return tokens;
}

/** The set of characters that begins at `[`, and where it ends; undefined where it does not. */
function setAt(text: string, from: number): { readonly token: Token; readonly end: number } | undefined {
  let i = from + 1;
  const not = text[i] === '!' || text[i] === '^';
  if (not) i++;
  const ranges: [number, number][] = [];
  for (let first = true; i < text.length; first = false, i++) {
    if (text[i] === ']' && !first) return { token: { is: 'set', not, ranges }, end: i };
    if (text[i] === '\\' && i + 1 < text.length) i++;
    const low = text.charCodeAt(i);
    if (text[i + 1] === '-' && i + 2 < text.length && text[i + 2] !== ']') {
      i += 2;
      ranges.push([low, text.charCodeAt(i)]);
    } else ranges.push([low, low]);
  }
  return undefined;
}

/** Whether a token other than `any` matches at a place: how far it reaches, or -1. */
function reach(token: Token, name: string, at: number): number {
  switch (token.is) {
    case 'text':
      return name.startsWith(token.text, at) ? token.text.length : -1;
    case 'one':
      return at < name.length ? 1 : -1;
    case 'set': {
      if (at >= name.length) return -1;
      const code = name.charCodeAt(at);
      return token.ranges.some(([low, high]) => code >= low && code <= high) !== token.not ? 1 : -1;
    }
    case 'any':
      return 0;
  }
}

/** Matches one name; what stands behind a star is looked for from there on, and never anew for the star before. */
function matchesName(tokens: readonly Token[], name: string): boolean {
  let [token, at] = [0, 0];
  let [star, starAt] = [-1, 0];
  for (;;) {
    const next = tokens[token];
    if (!next && at === name.length) return true;
    if (next?.is === 'any') {
      [star, starAt] = [token, at];
      token++;
      if (token === tokens.length) return true;
      continue;
    }
    const length = next ? reach(next, name, at) : -1;
    if (length >= 0) {
      token++;
      at += length;
      continue;
    }
    if (star < 0 || starAt >= name.length) return false;
    [token, at] = [star + 1, ++starAt];
  }
}

/** The same over the names of a path, where `deep` is the star. */
function matchesParts(parts: readonly Part[], names: readonly string[]): boolean {
  let [part, at] = [0, 0];
  let [deep, deepAt] = [-1, 0];
  for (;;) {
    const next = parts[part];
    if (next === undefined && at === names.length) return true;
    if (next === 'deep') {
      // at the end it stands for something below, not for the folder itself
      if (part === parts.length - 1) return at < names.length;
      [deep, deepAt] = [part, at];
      part++;
      continue;
    }
    if (next !== undefined && at < names.length && matchesName(next, names[at]!)) {
      part++;
      at++;
      continue;
    }
    if (deep < 0 || deepAt >= names.length) return false;
    [part, at] = [deep + 1, ++deepAt];
  }
}

/** Says whether a path is ignored by patterns: the last that matches decides, and nothing brings back what lies in a folder that is ignored. */
export function ignoreMatcher(lines: readonly string[]): (path: string, isFolder: boolean) => boolean {
  const patterns = lines.flatMap((line) => patternOf(line) ?? []);
  const decided = (names: readonly string[], isFolder: boolean): boolean => {
    for (let i = patterns.length - 1; i >= 0; i--) {
      const { again, foldersOnly, parts } = patterns[i]!;
      if ((isFolder || !foldersOnly) && matchesParts(parts, names)) return !again;
    }
    return false;
  };
  // trees are walked folder by folder: what was found of the last one holds for all that is in it
  let last = { folder: '', ignored: false };
  const lies = (folder: string): boolean => {
    if (folder === '') return false;
    if (folder !== last.folder) last = { folder, ignored: ignored(folder, true) };
    return last.ignored;
  };
  const ignored = (path: string, isFolder: boolean): boolean => lies(parentPath(path)) || decided(path.split('/'), isFolder);
  return ignored;
}

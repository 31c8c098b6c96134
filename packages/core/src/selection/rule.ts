export const ruleFields = ['tag', 'name', 'kind', 'source', 'location', 'folder', 'cluster', 'host', 'storage', 'network'] as const;
export type RuleField = (typeof ruleFields)[number];

/** What a rule can ask of a workload: all values it has of each field. */
export type SelectionFacts = Readonly<Record<RuleField, readonly string[]>>;

/** A rule that picks workloads: conditions, joined. In a pattern `*` stands for any text and `?` for one character; case makes no difference. */
export type Rule =
  | { readonly is: RuleField; readonly like: string }
  | { readonly not: Rule }
  | { readonly all: readonly Rule[] }
  | { readonly any: readonly Rule[] };

/** A rule that can't be read: where (characters from the start) and why. */
export class RuleError extends Error {
  constructor(
    readonly at: number,
    message: string,
  ) {
    super(message);
    this.name = 'RuleError';
  }
}

interface Token {
  readonly at: number;
  readonly kind: 'word' | 'quoted' | '(' | ')';
  readonly text: string;
}

const bare = /[^\s()"]+/y;
const quoted = /"((?:[^"\\]|\\.)*)"/sy;
const deepest = 50;

function tokensOf(text: string): Token[] {
  const tokens: Token[] = [];
  for (let at = 0; at < text.length;) {
    const c = text[at]!;
    if (/\s/.test(c)) at++;
    else if (c === '(' || c === ')') tokens.push({ at: at++, kind: c, text: c });
    else {
      const pattern = c === '"' ? quoted : bare;
      pattern.lastIndex = at;
      const found = pattern.exec(text);
      if (!found) throw new RuleError(at, 'The quotation mark is not closed.');
      tokens.push(c === '"' ? { at, kind: 'quoted', text: found[1]!.replace(/\\(.)/gs, '$1') } : { at, kind: 'word', text: found[0] });
      at += found[0].length;
    }
  }
  return tokens;
}

const conditions = `a condition is missing: ${ruleFields.join(', ')}, each with a pattern`;

class Reader {
  private next = 0;
  private depth = 0;

  constructor(
    private readonly tokens: readonly Token[],
    private readonly end: number,
  ) {}

  private get token(): Token | undefined {
    return this.tokens[this.next];
  }

  private isWord(word: string): boolean {
    return this.token?.kind === 'word' && this.token.text.toLowerCase() === word;
  }

  private joined(word: 'or' | 'and', part: () => Rule): Rule[] {
    const parts = [part()];
    while (this.isWord(word)) {
      this.next++;
      parts.push(part());
    }
    return parts;
  }

  any(): Rule {
    const parts = this.joined('or', () => this.all());
    return parts.length === 1 ? parts[0]! : { any: parts };
  }

  private all(): Rule {
    const parts = this.joined('and', () => this.one());
    return parts.length === 1 ? parts[0]! : { all: parts };
  }

  private one(): Rule {
    if (++this.depth > deepest) throw new RuleError(this.token?.at ?? this.end, 'It goes too deep.');
    try {
      return this.condition();
    } finally {
      this.depth--;
    }
  }

  private condition(): Rule {
    const { token } = this;
    if (!token) throw new RuleError(this.end, `Here ${conditions}.`);
    this.next++;
    if (token.kind === '(') {
      const rule = this.any();
      if (this.token?.kind !== ')') throw new RuleError(this.token?.at ?? this.end, 'A closing bracket is missing.');
      this.next++;
      return rule;
    }
    const word = token.text.toLowerCase();
    if (token.kind === 'word' && word === 'not') return { not: this.one() };
    const field = token.kind === 'word' ? ruleFields.find((f) => f === word) : undefined;
    if (!field) throw new RuleError(token.at, `Instead of ${token.text} ${conditions}.`);
    const value = this.token;
    if (value?.kind !== 'word' && value?.kind !== 'quoted')
      throw new RuleError(value?.at ?? this.end, `After ${field} comes a pattern, in quotation marks where it has spaces.`);
    this.next++;
    return { is: field, like: value.text };
  }

  finish(): void {
    const { token } = this;
    if (token) throw new RuleError(token.at, `Before ${token.text} stands no "and" or "or".`);
  }
}

/** Reads a rule such as `tag gates and not name "test *"`; `and` binds closer than `or`. Throws RuleError. */
export function parseRule(text: string): Rule {
  const reader = new Reader(tokensOf(text), text.length);
  const rule = reader.any();
  reader.finish();
  return rule;
}

const words = new Set<string>(['and', 'or', 'not', ...ruleFields]);

/** A pattern as it is written in a rule. */
export function ruleValue(like: string): string {
  return /^[^\s()"\\]+$/.test(like) && !words.has(like.toLowerCase()) ? like : `"${like.replace(/["\\]/g, '\\$&')}"`;
}

/** A rule in words; {@link parseRule} reads it back. */
export function ruleText(rule: Rule): string {
  if ('is' in rule) return `${rule.is} ${ruleValue(rule.like)}`;
  const inBrackets = (part: Rule, when: boolean) => (when ? `(${ruleText(part)})` : ruleText(part));
  if ('not' in rule) return `not ${inBrackets(rule.not, !('is' in rule.not || 'not' in rule.not))}`;
  if ('all' in rule) return rule.all.map((p) => inBrackets(p, 'any' in p || 'all' in p)).join(' and ');
  return rule.any.map((p) => inBrackets(p, 'any' in p)).join(' or ');
}

/** Matches a pattern in at most pattern × text steps: a regular expression with many stars may take for ever. */
function matcher(like: string): (text: string) => boolean {
  if (!/[*?]/.test(like)) {
    const plain = like.toLowerCase();
    return (text) => text.toLowerCase() === plain;
  }
  const pattern = Array.from(like.toLowerCase());
  return (whole) => {
    const text = Array.from(whole.toLowerCase());
    let [at, wanted, star, tried] = [0, 0, -1, 0];
    while (at < text.length) {
      const next = pattern[wanted];
      if (next === '*') {
        star = wanted++;
        tried = at;
      } else if (next === '?' || next === text[at]) {
        wanted++;
        at++;
      } else if (star >= 0) {
        wanted = star + 1;
        at = ++tried;
      } else return false;
    }
    while (pattern[wanted] === '*') wanted++;
    return wanted === pattern.length;
  };
}

/** A rule made ready for many workloads: answers with the conditions that make one fit, or undefined where it does not. */
export function ruleMatcher(rule: Rule): (facts: SelectionFacts) => readonly string[] | undefined {
  if ('is' in rule) {
    const { is } = rule;
    const matches = matcher(rule.like);
    const said = [ruleText(rule)];
    return (facts) => (facts[is].some(matches) ? said : undefined);
  }
  if ('not' in rule) {
    const inner = ruleMatcher(rule.not);
    const said = [ruleText(rule)];
    return (facts) => (inner(facts) ? undefined : said);
  }
  if ('all' in rule) {
    const parts = rule.all.map(ruleMatcher);
    return (facts) => {
      const said: string[] = [];
      for (const part of parts) {
        const why = part(facts);
        if (!why) return undefined;
        said.push(...why);
      }
      return said;
    };
  }
  const parts = rule.any.map(ruleMatcher);
  return (facts) => {
    for (const part of parts) {
      const why = part(facts);
      if (why) return why;
    }
    return undefined;
  };
}

/** Whether a rule asks for any of these fields. */
export function asksFor(rule: Rule, fields: readonly RuleField[]): boolean {
  if ('is' in rule) return fields.includes(rule.is);
  if ('not' in rule) return asksFor(rule.not, fields);
  return ('all' in rule ? rule.all : rule.any).some((part) => asksFor(part, fields));
}

/** How the text of a rule can go on: each answer is the whole text with one word or pattern more. `known` gives the values there are of a field. */
export function ruleCompletions(text: string, known: Readonly<Partial<Record<RuleField, readonly string[]>>>): string[] {
  const [, before = '', typed = ''] = /^((?:[^"]|"(?:[^"\\]|\\.)*")*?)((?:"(?:[^"\\]|\\.)*|[^\s()"]*))$/s.exec(text) ?? [];
  const last = /([^\s()"]+)\s*$/.exec(before)?.[1]?.toLowerCase() ?? '';
  const afterPattern = /(["\w*?.)-])\s*$/.test(before) && !words.has(last) && before.trim() !== '';
  const field = ruleFields.find((f) => f === last);
  const start = typed.replace(/^"/, '').toLowerCase();
  const options = field
    ? [...new Set(known[field])].filter((v) => v.toLowerCase().includes(start)).map(ruleValue)
    : (afterPattern ? ['and', 'or'] : ['not', ...ruleFields]).filter((w) => w.startsWith(start) && w !== start);
  return options.map((option) => `${before}${option} `);
}

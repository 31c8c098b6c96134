import { compile, validate, type CompilerError, type RuleMatch, type YaraX } from '@litko/yara-x';
import type { RuleSource, RulesTried, ScanFind } from '@lithodex/contract';

/** What one rule says of one content. */
export type RuleFind = Pick<ScanFind, 'rule' | 'about' | 'grade'>;

/** Nothing of the mover's host is read for rules, and none that would take long for each byte is taken. */
const options = { enableIncludes: false, errorOnSlowPattern: true, errorOnSlowLoop: true };
const longestAbout = 500;

interface Meta {
  readonly about?: unknown;
  readonly grade?: unknown;
}

/** Rules that contents are scanned by. */
export class RuleSet {
  private constructor(private readonly compiled: Pick<YaraX, 'scan'> | undefined) {}

  /** Throws Error with what is wrong in the rules. */
  static of(files: readonly RuleSource[]): RuleSet {
    const text = files.map((f) => f.text).join('\n');
    return new RuleSet(text.trim() === '' ? undefined : (compile(text, options) as YaraX));
  }

  /** What the rules find in a content. */
  find(data: Buffer): RuleFind[] {
    return (this.compiled?.scan(data) ?? []).map(findOf);
  }
}

function findOf({ ruleIdentifier, meta }: RuleMatch): RuleFind {
  const { about, grade } = meta as Meta;
  return {
    rule: ruleIdentifier.slice(0, 200),
    about: typeof about === 'string' ? about.slice(0, longestAbout) : '',
    grade: grade === 'suspect' ? 'suspect' : 'infected',
  };
}

/** What is wrong in the last of some files of rules, or in all of them together; else what they find in a sample. */
export function tryRules(files: readonly RuleSource[], sample: string): RulesTried {
  const last = files.at(-1);
  const [problem] = last ? validate(last.text, options).errors : [];
  if (problem) return { problem: { message: firstLine(problem.message), line: problem.line ?? lineIn(problem) }, finds: [] };
  try {
    return { problem: null, finds: RuleSet.of(files).find(Buffer.from(sample)) };
  } catch (error) {
    return { problem: { message: firstLine((error as Error).message), line: 0 }, finds: [] };
  }
}

/** Where a problem lies, as its text points to it. */
const lineIn = ({ message }: CompilerError) => Number(/line:(\d+)/.exec(message)?.[1] ?? 0);

const firstLine = (text: string) =>
  text
    .replace(/^Compilation error \(\w+\): /, '')
    .replace(/^error\[\w+\]: /, '')
    .split('\n')[0]!
    .slice(0, 300);

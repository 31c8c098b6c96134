import { createHash } from 'node:crypto';
import { findSensitive, type SensitivePattern } from '@lithodex/core';
import { allWithin } from './parts-within';
import type { RuleFind, RuleSet } from './rule-set';
import { textIn } from './text-of';

export interface FoundWithin extends RuleFind {
  /** Where inside the item; '' for the item itself. */
  readonly within: string;
}

export interface PatternCount {
  readonly pattern: string;
  readonly count: number;
  readonly sample: string;
}

/** What a look into a content told. */
export interface ContentTold {
  readonly finds: readonly FoundWithin[];
  readonly counts: readonly PatternCount[];
  /** SHA-256 of the content, as hex; '' for a part of one. */
  readonly sum: string;
  /** Why not all of it could be looked into; '' where it was. */
  readonly notLooked: string;
}

/** Looks into contents and what is inside them. */
export class ContentLook {
  constructor(
    private readonly rules: RuleSet,
    private readonly patterns: readonly SensitivePattern[],
  ) {}

  /** Looks into a whole content, and what is inside it. */
  async intoWhole(data: Buffer): Promise<ContentTold> {
    const finds: FoundWithin[] = [];
    const counts = new Counts();
    let notLooked = '';
    const parts = allWithin(data, (why) => {
      notLooked ||= why;
    });
    for await (const { within, content } of parts) {
      finds.push(...this.rules.find(content).map((f) => ({ ...f, within })));
      await this.count(counts, content);
    }
    const sum = createHash('sha256').update(data).digest('hex');
    return { finds: onceEach(finds), counts: counts.rows, sum, notLooked };
  }

  /** Looks at a part of a content that is too large to be held. */
  async intoWindow(data: Buffer): Promise<ContentTold> {
    const counts = new Counts();
    await this.count(counts, data);
    return { finds: this.rules.find(data).map((f) => ({ ...f, within: '' })), counts: counts.rows, sum: '', notLooked: '' };
  }

  private async count(counts: Counts, content: Buffer): Promise<void> {
    const text = this.patterns.length ? await textIn(content) : undefined;
    if (text) counts.add(findSensitive(text, this.patterns));
  }
}

/** Sums of what was found by pattern. */
export class Counts {
  private readonly sums = new Map<string, PatternCount>();

  add(more: readonly PatternCount[]): void {
    for (const { pattern, count, sample } of more) {
      const known = this.sums.get(pattern);
      this.sums.set(pattern, known ? { ...known, count: known.count + count } : { pattern, count, sample });
    }
  }

  get rows(): PatternCount[] {
    return [...this.sums.values()];
  }
}

/** A rule that finds something in many parts of one item is told once for each part. */
export const onceEach = (finds: readonly FoundWithin[]): FoundWithin[] => [
  ...new Map(finds.map((f) => [`${f.rule}\n${f.within}`, f])).values(),
];

import { createHash } from 'node:crypto';
import { findSensitive, type SensitivePattern } from '@lithodex/core';
import { textOfPdfBytes } from '../work/document-text';
import { holdsParts, looksLikeMail, NotOpened, partsWithin, Room } from './parts-within';
import type { RuleFind, RuleSet } from './rule-set';
import { textOf } from './text-of';

const deepest = 6;

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
  /** SHA-256 of the content, as hex; '' where it is not needed. */
  readonly sum: string;
  /** Why not all of it could be looked into; '' where it was. */
  readonly notLooked: string;
}

/** Looks into contents and what is inside them. */
export class ContentLook {
  constructor(
    private readonly rules: RuleSet,
    private readonly patterns: readonly SensitivePattern[],
    /** Whether contents are summed in which nothing is found, as others may find something. */
    private readonly sumAll: boolean,
  ) {}

  /** Looks into a whole content, and what is inside it. */
  async intoWhole(data: Buffer): Promise<ContentTold> {
    const finds: FoundWithin[] = [];
    const counts = new Counts();
    let notLooked = '';
    const room = new Room();
    const go = async (content: Buffer, within: string, depth: number): Promise<void> => {
      finds.push(...this.rules.find(content).map((f) => ({ ...f, within })));
      // what a message says is counted where it is read as text
      if (this.patterns.length && !looksLikeMail(content)) await this.count(counts, content);
      if (!holdsParts(content)) return;
      if (depth >= deepest) {
        notLooked ||= 'archives in archives go on too deep';
        return;
      }
      try {
        for await (const part of partsWithin(content, room))
          await go(part.data, within === '' ? part.name : `${within} → ${part.name}`.slice(0, 2000), depth + 1);
      } catch (error) {
        if (!(error instanceof NotOpened)) throw error;
        notLooked ||= error.message;
      }
    };
    await go(data, '', 0);
    const sum = finds.length || this.sumAll ? createHash('sha256').update(data).digest('hex') : '';
    return { finds: onceEach(finds), counts: counts.rows, sum, notLooked };
  }

  /** Looks at a part of a content that is too large to be held. */
  async intoWindow(data: Buffer): Promise<ContentTold> {
    const counts = new Counts();
    if (this.patterns.length) await this.count(counts, data);
    return { finds: this.rules.find(data).map((f) => ({ ...f, within: '' })), counts: counts.rows, sum: '', notLooked: '' };
  }

  private async count(counts: Counts, content: Buffer): Promise<void> {
    const isPdf = content.subarray(0, 5).toString('latin1') === '%PDF-';
    const text = isPdf ? await textOfPdfBytes(content) : textOf(content);
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

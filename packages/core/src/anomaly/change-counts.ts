/** What a point changed against the one before it, in numbers. */
export interface ChangeCounts {
  /** What is counted. */
  readonly of?: 'files' | 'blocks' | undefined;
  /** How many there were. */
  readonly before: number;
  readonly added: number;
  readonly changed: number;
  readonly removed: number;
  /** Added or changed ones whose content looks random: spread evenly, and without the form of a known format. */
  readonly random: number;
  /** Changed ones whose earlier content did not look random but now does. */
  readonly turnedRandom: number;
  /** Removed ones for which one with the same name plus an ending was added. */
  readonly renamed: number;
  /** Removed ones in whose folder one of about the same size was added that looks random, which they did not. */
  readonly twins?: number | undefined;
  /** Removed ones whose content was added under another name. */
  readonly moved?: number | undefined;
  /** Removed ones, neither moved nor with a twin, that were written within the last 30 days. */
  readonly removedFresh?: number | undefined;
  /** Bytes. */
  readonly addedBytes?: number | undefined;
  readonly removedBytes?: number | undefined;
  /** Of what looks random and was added in place of something: the ending most of them share; '' for none. */
  readonly ending?: string | undefined;
}

/** How many that did not look random look so now, in place or by a twin. */
export const turned = (c: ChangeCounts): number => c.turnedRandom + (c.twins ?? 0);

/** How many are gone for good: neither moved nor replaced by one of the same name with an ending, or by a twin. */
export const lost = (c: ChangeCounts): number => Math.max(0, c.removed - (c.moved ?? 0) - Math.max(c.renamed, c.twins ?? 0));

/** Share of what was there before, 0–1. */
export const shareOf = (n: number, c: ChangeCounts): number => (c.before > 0 ? Math.min(1, n / c.before) : 0);

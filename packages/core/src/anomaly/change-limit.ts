/** What a point changed against the one before, in numbers of files, or of blocks of an image. */
export interface ChangeCounts {
  readonly of?: 'files' | 'blocks';
  readonly before: number;
  readonly added: number;
  readonly changed: number;
  readonly removed: number;
  /** Added or changed files whose content looks random. */
  readonly random: number;
  /** Changed files whose earlier content did not look random but now does. */
  readonly turnedRandom: number;
  /** Removed files for which a file with the same name plus an ending was added. */
  readonly renamed: number;
}

export interface Unusual {
  /** 0–100: how far from this workload's normal. */
  readonly score: number;
  readonly suspect: boolean;
  /** Share of the earlier files that were changed or removed, 0–1. */
  readonly share: number;
  readonly reasons: readonly string[];
}

const percent = (share: number) => `${share < 0.1 ? (share * 100).toFixed(1) : Math.round(share * 100)} %`;

/** Median of the shares of earlier points; undefined with fewer than three of them. */
export function usualShare(history: readonly number[]): number | undefined {
  if (history.length < 3) return undefined;
  const sorted = [...history].sort((a, b) => a - b);
  const middle = sorted.length >> 1;
  return sorted.length % 2 ? sorted[middle]! : (sorted[middle - 1]! + sorted[middle]!) / 2;
}

/**
 * Judges one point. It is suspect when at least 20 files existed before and the changed and removed share passes `limit` (0–1). The score adds half a
 * scale for the share against the limit and half for signs of encryption; a first point has nothing to compare with and scores 0.
 */
export function judgeChange(counts: ChangeCounts, limit: number, history: readonly number[]): Unusual {
  if (counts.before === 0) return { score: 0, suspect: false, share: 0, reasons: [] };
  const share = Math.min(1, (counts.changed + counts.removed) / counts.before);
  const usual = usualShare(history);
  const suspect = counts.before >= 20 && share > limit;
  const touched = counts.added + counts.changed;
  const randomShare = touched ? counts.random / touched : 0;
  const signs =
    counts.turnedRandom + counts.renamed > 0
      ? Math.min(1, (counts.turnedRandom + counts.renamed) / Math.max(1, counts.changed + counts.removed))
      : 0;
  const score = Math.round(Math.min(1, share / Math.max(limit, 0.01)) * 50 + (share > limit / 2 ? signs * 50 : 0));
  const reasons: string[] = [];
  if (suspect || (usual !== undefined && share > Math.max(0.02, usual * 5)))
    reasons.push(
      `${percent(share)} of the ${counts.of ?? 'files'} changed or gone${usual === undefined ? '' : `, usually ${percent(usual)}`}`,
    );
  if (suspect && randomShare > 0.5) reasons.push(`${percent(randomShare)} of the new content looks random, as encrypted data does`);
  if (suspect && counts.renamed > 0) reasons.push(`${counts.renamed} files replaced by a twin with an added ending`);
  return { score, suspect, share, reasons };
}

/**
 * True when a sample of `length` bytes is spread as evenly as random bytes are: chi-square against the even distribution, with 255 degrees of freedom, below 400
 * (about 255 for encrypted data, thousands for text and most archives). As the counts of the bytes sum up to `length`, their sum of squares is all it needs:
 * χ² = Σ (c − n/256)² / (n/256) = 256/n · Σ c² − n.
 */
export function spreadLikeRandom(sumOfSquares: number, length: number): boolean {
  return (256 * sumOfSquares) / length - length < 400;
}

/** True when a sample of at least 1 KiB is spread as random bytes are. */
export function looksRandom(sample: Uint8Array): boolean {
  if (sample.length < 1024) return false;
  const counts = new Uint32Array(256);
  // eslint-disable-next-line @typescript-eslint/prefer-for-of -- iterating a buffer takes ten times as long
  for (let i = 0; i < sample.length; i++) counts[sample[i]!]!++;
  return spreadLikeRandom(
    counts.reduce((sum, n) => sum + n * n, 0),
    sample.length,
  );
}

import { formatCount } from '../text/format';
import { lost, shareOf, turned, type ChangeCounts } from './change-counts';
import { usualOf, type Usual, type UsualSample } from './usual';

/** What an earlier point changed, and what a person said of it. */
export interface EarlierPoint {
  /** When it was taken, in milliseconds since 1970. */
  readonly moment: number;
  readonly counts: ChangeCounts;
  /** It was held and nobody said that it is usual: it teaches nothing. */
  readonly held: boolean;
}

/** What is called unusual, for one workload. */
export interface UnusualTerms {
  /** Share of what was there, 0–1, above which a point is held whatever is usual. */
  readonly limit: number;
  /** Score from which on a point is held, 1–100; 101 for never. */
  readonly holdFrom: number;
}

/** A code of what was found, with its part of the score and words for it. */
export interface UnusualSign {
  readonly code: 'encrypted' | 'encryptedSlowly' | 'randomContent' | 'deleted' | 'changed' | 'grown' | 'limit';
  /** 0–100. */
  readonly score: number;
  readonly reason: string;
}

export interface Unusual {
  /** 0–100: how far from this workload's normal. */
  readonly score: number;
  readonly suspect: boolean;
  /** Share of what was there that was changed or removed, 0–1. */
  readonly share: number;
  readonly signs: readonly UnusualSign[];
  readonly reasons: readonly string[];
  /** Points that taught what is usual, and how many it takes: fewer, and only damage is told from them. */
  readonly learned: number;
}

/** Points it takes to know what is usual. */
export const pointsToLearn = 14;
/** Where nobody said otherwise. */
export const usualHoldFrom = 60;
/** Below it nothing is said of a whole. */
const fewestItems = 20;
/** Points over which what goes slowly is added up. */
const slowPoints = 10;
/** So many before them tell what happens by chance. */
const fewestBefore = 5;

const percent = (share: number) => `${share < 0.1 ? (share * 100).toFixed(1) : Math.round(share * 100)} %`;
const nounOf = (c: ChangeCounts) => c.of ?? 'files';
/** 60 at the threshold, 100 at `full`, and below it no more than 45. */
function scoreOf(value: number, threshold: number, full: number): number {
  if (value < threshold) return Math.round(45 * (value / threshold));
  return Math.round(60 + 40 * Math.min(1, (value - threshold) / Math.max(full - threshold, Number.EPSILON)));
}

/** Judges one point by what its workload usually changes. `history`: earlier points, oldest first. */
export function judgePoint(
  counts: ChangeCounts,
  moment: number,
  history: readonly EarlierPoint[],
  { limit, holdFrom }: UnusualTerms,
): Unusual {
  const taught = history.filter(teaches);
  const share = shareOf(counts.changed + counts.removed, counts);
  if (counts.before === 0) return { score: 0, suspect: false, share, signs: [], reasons: [], learned: taught.length };
  const usual = (of: (c: ChangeCounts) => number) => usualOf(samplesOf(history, of), moment);
  const signs = [
    ...(counts.of === 'blocks' ? randomBlocks(counts, usual) : turnedRandom(counts, moment, history, usual)),
    ...deleted(counts, taught.length, usual),
    ...changed(counts, taught.length, usual),
    ...grown(counts, taught.length, usual),
  ];
  if (counts.before >= fewestItems && share > limit && !signs.some((s) => s.code === 'changed' || s.code === 'deleted'))
    signs.push({
      code: 'limit',
      score: 60,
      reason: `${percent(share)} of the ${nounOf(counts)} changed or gone${usualWords(usual((c) => shareOf(c.changed + c.removed, c)))}`,
    });
  const worst = Math.max(0, ...signs.map((s) => s.score));
  const held = worst >= holdFrom || (counts.before >= fewestItems && share > limit);
  const told = signs.filter((s) => s.score >= Math.min(40, worst)).sort((a, b) => b.score - a.score);
  return { score: worst, suspect: held, share, signs: told, reasons: told.map((s) => s.reason), learned: taught.length };
}

const teaches = (p: EarlierPoint): boolean => !p.held && p.counts.before > 0;
const samplesOf = (points: readonly EarlierPoint[], of: (c: ChangeCounts) => number): UsualSample[] =>
  points.filter(teaches).map((p) => ({ moment: p.moment, value: of(p.counts) }));

type UsualOf = (of: (c: ChangeCounts) => number) => Usual;

const usualWords = (usual: Usual) => (usual.points < 3 ? '' : `, usually ${percent(usual.middle)}`);

/** Files that lost their content to something random, in this point or over the last ones. What happens every night by chance is taken off. */
function turnedRandom(counts: ChangeCounts, moment: number, history: readonly EarlierPoint[], usual: UsualOf): UnusualSign[] {
  const now = turned(counts);
  if (now === 0) return [];
  const signs: UnusualSign[] = [];
  const byChance = usual(turned);
  const chance = byChance.secondHighest;
  // a handful in a small tree, some dozens in a large one
  const least = Math.max(4, Math.min(40, counts.before * 0.004));
  const threshold = Math.max(least, 2.5 * chance);
  const twins = counts.twins ?? 0;
  const ending = counts.ending && twins > 1 ? `, most with ${counts.ending} added` : '';
  const reason =
    twins > counts.turnedRandom
      ? `${formatCount(twins)} ${nounOf(counts)} are gone and have a twin that looks random, as encrypted data does${ending}`
      : `${formatCount(now)} ${nounOf(counts)} turned random, as encrypted data is`;
  signs.push({ code: 'encrypted', score: scoreOf(now, threshold, Math.max(threshold * 2, counts.before * 0.05)), reason });
  const lately = history.slice(1 - slowPoints).filter((p) => !p.held);
  const sum = now + lately.reduce((n, p) => n + turned(p.counts), 0);
  // what goes slowly must not teach that it is usual
  const long = usualOf(samplesOf(history.slice(0, 1 - slowPoints), turned), moment);
  const expected = Math.max(long.mean, byChance.middle) * (lately.length + 1);
  const once = long.points >= fewestBefore ? long.secondHighest : byChance.middle + 3 * byChance.spread;
  const slowly = Math.max(least * 1.5, expected * 3 + once);
  if (lately.length && sum > now)
    signs.push({
      code: 'encryptedSlowly',
      score: scoreOf(sum, slowly, Math.max(slowly * 2, counts.before * 0.05)),
      reason: `${formatCount(sum)} ${nounOf(counts)} turned random over the last ${formatCount(lately.length + 1)} points`,
    });
  if (signs.some((s) => s.score >= 60)) return signs;
  // what looked random before, as what was read by an earlier version may, says nothing by turning: only how much is new does
  return [...signs, ...randomContent(counts, usual)];
}

/** Much of what is there was written anew, and far more of that than usual looks random. */
function randomContent(counts: ChangeCounts, usual: UsualOf): UnusualSign[] {
  const written = counts.added + counts.changed;
  if (written < fewestItems || counts.before < fewestItems) return [];
  const touched = shareOf(counts.changed + lost(counts) + (counts.twins ?? 0), counts);
  const ofNew = counts.random / written;
  const before = usual((c) => (c.added + c.changed ? c.random / (c.added + c.changed) : 0));
  if (touched < 0.1 || ofNew < 0.5 || ofNew < before.high + 0.25) return [];
  return [
    {
      code: 'randomContent',
      score: scoreOf(touched, 0.2, 0.6),
      reason: `${percent(ofNew)} of the new content looks random, usually ${percent(before.middle)}`,
    },
  ];
}

/** Blocks of an image: more random ones than this machine ever writes. */
function randomBlocks(counts: ChangeCounts, usual: UsualOf): UnusualSign[] {
  const written = counts.added + counts.changed;
  const random = shareOf(counts.random, counts);
  if (written === 0 || counts.random < 16) return [];
  const before = usual((c) => shareOf(c.random, c));
  const mix = usual((c) => (c.added + c.changed ? c.random / (c.added + c.changed) : 0));
  const ofNew = counts.random / written;
  const known = before.points >= 5;
  // nobody encrypts the larger part of a disk without that being worth a look, known or not
  const threshold = known ? Math.max(0.006, before.high * 1.5, before.middle + 6 * before.spread) : 0.25;
  if (known ? ofNew < Math.min(0.9, mix.high + 0.08) : ofNew < 0.7) return [];
  return [
    {
      code: 'randomContent',
      score: scoreOf(random, threshold, threshold * 3),
      reason: `${percent(ofNew)} of the ${formatCount(written)} blocks written look random, usually ${percent(mix.middle)}`,
    },
  ];
}

/** Items that are gone for good, far more than ever before. What is old goes by a clearing up, what is fresh does not. */
function deleted(counts: ChangeCounts, learned: number, usual: UsualOf): UnusualSign[] {
  const gone = lost(counts);
  if (gone < fewestItems || learned < 3) return [];
  const before = usual((c) => shareOf(lost(c), c));
  const share = shareOf(gone, counts);
  // what is put into one archive takes room there
  const archived = (counts.removedBytes ?? 0) > 0 && (counts.addedBytes ?? 0) > 0.3 * counts.removedBytes!;
  const onlyOld = counts.removedFresh !== undefined && counts.removedFresh < gone * 0.02;
  const least = archived || onlyOld ? 0.6 : 0.2;
  const threshold = Math.max(least, before.secondHighest * 1.5, before.seasonHigh * 1.3, before.middle + 6 * before.spread);
  const score = scoreOf(share, threshold, Math.max(0.6, threshold * 2));
  if (score < 25) return [];
  return [{ code: 'deleted', score, reason: `${percent(share)} of the ${nounOf(counts)} are gone${usualWords(before)}` }];
}

/** More changed than ever: unusual, but by itself no damage. */
function changed(counts: ChangeCounts, learned: number, usual: UsualOf): UnusualSign[] {
  if (counts.before < fewestItems || learned < 5) return [];
  const of = (c: ChangeCounts) => shareOf(c.changed + c.removed, c);
  const before = usual(of);
  const share = of(counts);
  const threshold = Math.max(0.02, before.secondHighest * 1.5, before.seasonHigh * 1.3, before.middle + 6 * before.spread);
  if (share < threshold) return [];
  const score = Math.min(50, Math.round(25 + 25 * Math.min(1, share / (threshold * 4))));
  return [{ code: 'changed', score, reason: `${percent(share)} of the ${nounOf(counts)} changed or gone${usualWords(before)}` }];
}

/** More came than ever. */
function grown(counts: ChangeCounts, learned: number, usual: UsualOf): UnusualSign[] {
  if (counts.added < fewestItems || learned < 5) return [];
  const of = (c: ChangeCounts) => c.added / Math.max(1, c.before);
  const before = usual(of);
  const threshold = Math.max(0.05, before.secondHighest * 2, before.seasonHigh * 1.5, before.middle + 6 * before.spread);
  if (of(counts) < threshold) return [];
  const score = Math.min(40, Math.round(20 + 20 * Math.min(1, of(counts) / (threshold * 4))));
  return [
    {
      code: 'grown',
      score,
      reason: `${formatCount(counts.added)} new ${nounOf(counts)}, usually ${formatCount(Math.round(before.middle * counts.before))}`,
    },
  ];
}

import type { WorkloadRow } from '@lithodex/contract';
import { countOf, formatBytes } from '@lithodex/core';
import type { BucketFacts, BucketPoint } from '@lithodex/kinds';

/** What is known of a bucket; null for others. */
export const bucketFacts = ({ facts }: Pick<WorkloadRow, 'facts'>): BucketFacts | null => (facts?.kind === 'bucket' ? facts : null);

/** How much is in a bucket, as far as it was counted. */
export const sizeWords = ({ objects, bytes, more }: BucketFacts): string =>
  `${more ? 'more than ' : ''}${countOf(objects, 'object')}, ${formatBytes(bytes)}`;

export const versioningWords: Readonly<Record<BucketFacts['versioning'], string>> = {
  on: 'keeps versions of what is replaced or deleted',
  suspended: 'kept versions, and does not any more',
  off: 'keeps no versions: what is deleted there is kept by points alone',
};

/** What a run asked of the service. */
export const askedWords = ({ asked }: BucketPoint): string =>
  `${countOf(asked.lists, 'page')} listed, ${countOf(asked.reads, 'read')}, ${countOf(asked.facts, 'question')} about single objects`;

const classNames: Readonly<Record<string, string>> = {
  STANDARD_IA: 'kept for seldom use',
  GLACIER: 'in an archive',
  DEEP_ARCHIVE: 'in a deep archive',
};

/** Classes that objects lie in; '' where all lie in the usual one. */
export function classWords({ classes }: BucketPoint): string {
  const others = Object.entries(classes).filter(([name]) => name !== 'STANDARD');
  return others.map(([name, n]) => `${countOf(n, 'object')} ${classNames[name] ?? `as ${name}`}`).join(', ');
}

/** What a point holds of what is no more; '' for nothing. */
export function olderWords({ older }: BucketPoint): string {
  if (!older) return '';
  const parts = [
    ...(older.versions ? [countOf(older.versions, 'older version')] : []),
    ...(older.markers ? [countOf(older.markers, 'deletion')] : []),
  ];
  return `any second before it${parts.length ? `, by ${parts.join(' and ')}` : ''}`;
}

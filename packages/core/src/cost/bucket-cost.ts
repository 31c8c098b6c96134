/** What an object storage costs, in one currency. Listings and writes are one class of requests, all others another, as services bill them. */
export interface BucketPrices {
  /** Like EUR. */
  readonly currency: string;
  /** For a GB (10⁹ bytes) kept for a month. */
  readonly perGbMonth: number;
  /** For a GB read. */
  readonly perGbRead: number;
  /** For a thousand listings, or objects written. */
  readonly perThousandLists: number;
  /** For a thousand reads of objects, or questions about them. */
  readonly perThousandReads: number;
}

/** What runs asked of a service. */
export interface BucketUse {
  readonly lists: number;
  /** Objects and parts of them. */
  readonly reads: number;
  /** Questions about single objects or the bucket. */
  readonly facts: number;
  /** Bytes that were read. */
  readonly bytes: number;
}

const gb = 1e9;

/** Price of what was asked. */
export function usePrice({ lists, reads, facts, bytes }: BucketUse, p: BucketPrices): number {
  return (lists / 1000) * p.perThousandLists + ((reads + facts) / 1000) * p.perThousandReads + (bytes / gb) * p.perGbRead;
}

/** Price of keeping objects there for a month. */
export const keptPrice = (bytes: number, p: BucketPrices): number => (bytes / gb) * p.perGbMonth;

/** Price of bringing all objects back: each is looked for and written. */
export const restorePrice = (objects: number, p: BucketPrices): number => (objects / 1000) * (p.perThousandLists + p.perThousandReads);

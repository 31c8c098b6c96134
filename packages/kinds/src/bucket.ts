import { z } from 'zod';
import { conflictRules } from './files';
import type { Kind } from './kind';
import { Authority, Bytes, Count, Id, Instant, ServiceUrl } from './values';

/** What services of the protocol take as the name of a bucket, older ones included. */
export const BucketName = z
  .string()
  .trim()
  .regex(/^[A-Za-z0-9][A-Za-z0-9._-]{1,253}[A-Za-z0-9]$/, 'letters, digits and . _ -');

/** What a key begins with; '' for everything. */
export const KeyPrefix = z.string().max(900);

const Price = z.number().min(0).max(1000);
/** What an object storage costs. */
export const BucketPrices = z.object({
  currency: z.string().regex(/^[A-Z]{3}$/, 'three letters, like EUR'),
  perGbMonth: Price,
  perGbRead: Price,
  perThousandLists: Price,
  perThousandReads: Price,
});
export type BucketPrices = z.infer<typeof BucketPrices>;

/** Where an object storage is, and who signs in there: without what opens it. */
export const BucketAddress = z.object({
  kind: z.literal('bucket'),
  endpoint: ServiceUrl,
  region: z
    .string()
    .trim()
    .regex(/^[A-Za-z0-9-]{1,60}$/, 'letters, digits and -')
    .default('us-east-1'),
  accessKey: z
    .string()
    .trim()
    .min(1)
    .max(200)
    .regex(/^[\x21-\x7e]+$/, 'one word'),
  /** Only these, where the account may not list buckets or not all are meant; none for all that are listed. */
  buckets: z.array(BucketName).max(1000).default([]),
  /** Whether the access list of each object is read as well: a request more for each that is new. */
  accessLists: z.boolean().default(false),
  /** Whether what was replaced or deleted is taken as well, as far as buckets keep it: then any second can be brought back. */
  versions: z.boolean().default(false),
  /** What it costs; null where nobody said. */
  prices: BucketPrices.nullable().default(null),
  /** The certificate authority that the certificate is checked with; null for those the mover's system trusts. */
  authority: Authority,
});
export type BucketAddress = z.infer<typeof BucketAddress>;

/** An object storage as movers need it; `id`: the source it is kept as, null while it is not kept yet. */
export const BucketService = BucketAddress.extend({ id: Id.nullable(), secretKey: z.string().min(1).max(4000) });
export type BucketService = z.infer<typeof BucketService>;

/** Whether the bucket keeps what was replaced or deleted. */
const Versioning = z.enum(['off', 'on', 'suspended']);

/** What is known of a bucket without reading it. */
export const BucketFacts = z.object({
  kind: z.literal('bucket'),
  versioning: Versioning,
  locks: z.boolean(),
  /** As far as they were counted; `more`: there are more than that. */
  objects: Count,
  bytes: Bytes,
  more: z.boolean(),
  /** Of those that were counted, how many lie in a class that has to be thawed before it can be read. */
  frozen: Count,
  /** Why it can not be listed; '' where it can. */
  trouble: z.string().max(1000),
});
export type BucketFacts = z.infer<typeof BucketFacts>;

/** What a point of a bucket says of it. */
export const BucketPoint = z.object({
  kind: z.literal('bucket'),
  bucket: BucketName,
  versioning: Versioning,
  locks: z.boolean(),
  objects: Count,
  bytes: Bytes,
  /** Of what class, with how many objects each. */
  classes: z.record(z.string().max(60), Count),
  /** Older versions and marks of deletions, where they are taken: how many, and when the oldest was written. */
  older: z.object({ versions: Count, markers: Count, since: Instant.nullable() }).nullish(),
  /** What was asked of the service for it: pages of listings, objects and parts of them, tags and access lists. */
  asked: z.object({ lists: Count, reads: Count, facts: Count }),
});
export type BucketPoint = z.infer<typeof BucketPoint>;

/** What is kept of an object beside its bytes. */
export const ObjectFacts = z.object({
  etag: z.string().max(300),
  /** Content-Type and the like, as they were given, by name. */
  headers: z.record(z.string().max(40), z.string().max(8000)),
  /** What its owner noted with it, by name. */
  notes: z.record(z.string().max(2100), z.string().max(8000)),
  tags: z.array(z.tuple([z.string().max(600), z.string().max(1200)])).max(50),
  class: z.string().max(60),
  version: z.string().max(1100),
  /** Of an older version: the one that took its place. */
  newer: z.string().max(1100).optional(),
  /** It stands for a deletion. */
  marker: z.boolean().optional(),
  /** How the service encrypted it; '' where it does not say. */
  encryption: z.string().max(100),
  /** Who may do what with it, beside its owner; absent where it was not asked. */
  grants: z
    .array(z.object({ to: z.string().max(400), by: z.enum(['id', 'group', 'mail']), right: z.string().max(40) }))
    .max(100)
    .optional(),
});
export type ObjectFacts = z.infer<typeof ObjectFacts>;

/** A bucket, with what opens its service. `bucket` is '' while it is asked which there are. */
export const BucketFrom = z.object({ kind: z.literal('bucket'), server: BucketService, bucket: z.union([z.literal(''), BucketName]) });
export type BucketFrom = z.infer<typeof BucketFrom>;

/** How the objects of a restore are kept where they go. */
const StorageClass = z.union([z.literal(''), z.string().regex(/^[A-Z][A-Z_]{2,40}$/, 'a class as the service names it')]);

/** To another bucket or below another prefix. */
export const BucketPlace = z.object({
  to: z.literal('bucket'),
  systemId: Id,
  bucket: BucketName,
  /** Put before every key. */
  prefix: KeyPrefix.default(''),
  /** '' for the class each had. */
  class: StorageClass.default(''),
  /** It is made where it is not there. */
  make: z.boolean().default(false),
  /** As it all was at the end of this second, ms; null for as it is in the point. */
  at: Instant.nullable().default(null),
});

export const BucketDestination = z.object({
  bucket: BucketName,
  prefix: KeyPrefix,
  class: StorageClass,
  make: z.boolean(),
  at: Instant.nullish(),
  exists: z.enum(conflictRules),
  /** What is put behind the names of objects that are restored beside what exists. */
  stamp: z.string().max(60),
});
export type BucketDestination = z.infer<typeof BucketDestination>;

export const BucketTo = z.object({ kind: z.literal('bucket'), server: BucketService, destination: BucketDestination });
export type BucketTo = z.infer<typeof BucketTo>;

/** What is where a restore goes. */
export const BucketNow = z.object({
  there: z.boolean(),
  versioning: Versioning,
  locks: z.boolean(),
  /** Why it can not be looked at; '' where it can. */
  trouble: z.string().max(1000),
});
export type BucketNow = z.infer<typeof BucketNow>;

/** The bucket that a point is of, as the point tells. */
export function bucketOfPoint({ bucket, versioning, locks, objects, bytes }: BucketPoint): {
  kind: 'bucket';
  facts: BucketFacts;
  outer_id: string;
} {
  const facts: BucketFacts = { kind: 'bucket', versioning, locks, objects, bytes, more: false, frozen: 0, trouble: '' };
  return { kind: 'bucket', facts, outer_id: bucket };
}

/** So many pages of a bucket are counted where buckets are looked for: how much is behind them is known once it was read. */
export const lookingPages = 10;

/** What a service of the protocol calls classes that have to be thawed before they can be read. */
export const frozenClasses: readonly string[] = ['GLACIER', 'DEEP_ARCHIVE'];

export const bucket = {
  name: 'bucket',
  noun: 'bucket',
  group: 'Buckets',
  changesIn: 'files',
  compares: false,
  opens: false,
  logs: false,
  from: BucketFrom,
  to: BucketTo,
} as const satisfies Kind;

import type { GetObjectCommandOutput, S3 } from '@aws-sdk/client-s3';
import { openBucketClient } from '@lithodex/engine';
import type { BucketFacts, BucketService, ObjectFacts } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import { bucketErrorOf } from './bucket-errors';
import { grantsOf } from './object-facts';

/** A request is tried so often before it has failed: services ask to slow down. */
const tries = 8;
const mostBuckets = 1000;

/** An object as a listing tells it. */
export interface ListedObject {
  readonly key: string;
  readonly size: number;
  /** ms */
  readonly mtime: number;
  readonly etag: string;
  readonly class: string;
  /** Which version it is, where versions are listed. */
  readonly id?: string;
}

/** A version of an object, or the mark that it was deleted. */
export interface ListedVersion extends ListedObject {
  readonly id: string;
  readonly marker: boolean;
  /** What counts now. */
  readonly latest: boolean;
}

/** Where a listing of versions goes on. */
export interface VersionsFrom {
  readonly key: string;
  readonly id: string | undefined;
}

/** Where the content of an object is, with what is known of it. */
export interface OpenObject {
  readonly facts: ObjectFacts;
  readonly size: number;
  /** ms */
  readonly mtime: number;
  /** How many tags it has; null where the service does not say. */
  readonly tagCount: number | null;
  readonly body: AsyncIterable<Uint8Array>;
}

const bare = (etag: string | undefined) => (etag ?? '').replace(/^"|"$/g, '');
const decoded = (text: string) => decodeURIComponent(text.replace(/\+/g, ' '));

/** What is asked of an object storage, with its errors as those of a source; counts what was asked. */
export class BucketClient {
  private client: Promise<S3> | undefined;
  readonly asked = { lists: 0, reads: 0, facts: 0 };

  constructor(
    private readonly service: BucketService,
    readonly bucket: string,
  ) {}

  /** Asks the service. `what` names what for. Throws SourceError. */
  async ask<T>(what: string, act: (s3: S3) => Promise<T>): Promise<T> {
    try {
      return await act(await (this.client ??= openBucketClient(this.service, tries)));
    } catch (error) {
      throw bucketErrorOf(error, what);
    }
  }

  async close(): Promise<void> {
    (await this.client?.catch(() => undefined))?.destroy();
  }

  /** Names of the buckets that are listed. */
  async buckets(): Promise<string[]> {
    const { Buckets = [] } = await this.ask('the list of buckets', (s3) => s3.listBuckets({}));
    return Buckets.flatMap((b) => (b.Name === undefined ? [] : [b.Name])).slice(0, mostBuckets);
  }

  /** Whether the bucket keeps versions and locks objects. Throws BUCKET_GONE, BUCKET_RIGHT_MISSING. */
  async settings(): Promise<Pick<BucketFacts, 'versioning' | 'locks'>> {
    const Bucket = this.bucket;
    this.asked.facts += 2;
    const { Status } = await this.ask(Bucket, (s3) => s3.getBucketVersioning({ Bucket }));
    let locks = false;
    try {
      const { ObjectLockConfiguration } = await this.ask(Bucket, (s3) => s3.getObjectLockConfiguration({ Bucket }));
      locks = ObjectLockConfiguration?.ObjectLockEnabled === 'Enabled';
    } catch (error) {
      // a service that does not know of locks has none
      if (!(error instanceof SourceError) || !['OBJECT_GONE', 'BUCKET_FAILED', 'BUCKET_RIGHT_MISSING'].includes(error.code)) throw error;
    }
    return { versioning: Status === 'Enabled' ? 'on' : Status === 'Suspended' ? 'suspended' : 'off', locks };
  }

  /** The objects behind a key, a page of at most `most`. */
  async page(after: string, most = 1000): Promise<{ readonly objects: ListedObject[]; readonly more: boolean }> {
    this.asked.lists++;
    const asked = { Bucket: this.bucket, EncodingType: 'url' as const, MaxKeys: most, ...(after !== '' && { StartAfter: after }) };
    const { Contents = [], IsTruncated, EncodingType } = await this.ask(this.bucket, (s3) => s3.listObjectsV2(asked));
    const objects = Contents.map((o) => ({
      key: EncodingType === 'url' ? decoded(o.Key!) : o.Key!,
      size: o.Size ?? 0,
      mtime: o.LastModified?.getTime() ?? 0,
      etag: bare(o.ETag),
      class: o.StorageClass ?? 'STANDARD',
    }));
    return { objects, more: IsTruncated === true };
  }

  /** Versions and marks of deletions from a place on, of each key the newest first. */
  async versions(from: VersionsFrom | undefined): Promise<{ readonly versions: ListedVersion[]; readonly next: VersionsFrom | undefined }> {
    this.asked.lists++;
    const behind = from && { KeyMarker: from.key, ...(from.id !== undefined && { VersionIdMarker: from.id }) };
    const page = await this.ask(this.bucket, (s3) =>
      s3.listObjectVersions({ Bucket: this.bucket, EncodingType: 'url' as const, ...behind }),
    );
    const text = (key: string | undefined) => (page.EncodingType === 'url' ? decoded(key ?? '') : (key ?? ''));
    const common = (v: { Key?: string; VersionId?: string; IsLatest?: boolean; LastModified?: Date }) => ({
      key: text(v.Key),
      id: v.VersionId ?? 'null',
      latest: v.IsLatest === true,
      mtime: v.LastModified?.getTime() ?? 0,
    });
    const kept = (page.Versions ?? []).map((v) => ({
      ...common(v),
      marker: false,
      size: v.Size ?? 0,
      etag: bare(v.ETag),
      class: v.StorageClass ?? 'STANDARD',
    }));
    const markers = (page.DeleteMarkers ?? []).map((m) => ({ ...common(m), marker: true, size: 0, etag: '', class: 'STANDARD' }));
    const next = page.IsTruncated ? { key: text(page.NextKeyMarker), id: page.NextVersionIdMarker } : undefined;
    return { versions: [...kept, ...markers], next };
  }

  /** Opens an object, or bytes of it: of the one with that ETag only, where it is said. Throws OBJECT_GONE, OBJECT_FROZEN, and OBJECT_CHANGED where it is another one meanwhile. */
  async open(
    key: string,
    part?: { readonly from: number; readonly to: number; readonly etag: string },
    version?: string,
  ): Promise<OpenObject> {
    this.asked.reads++;
    const asked = {
      Bucket: this.bucket,
      Key: key,
      ...(version !== undefined && { VersionId: version }),
      ...(part && { Range: `bytes=${part.from}-${part.to - 1}`, ...(part.etag !== '' && { IfMatch: `"${part.etag}"` }) }),
    };
    const got = await this.ask(key, async (s3) => {
      try {
        return await s3.getObject(asked);
      } catch (error) {
        if ((error as { $metadata?: { httpStatusCode?: number } }).$metadata?.httpStatusCode === 412)
          throw new SourceError('OBJECT_CHANGED', key);
        throw error;
      }
    });
    return openedOf(got);
  }

  /** What is there under a key; undefined for nothing. */
  async head(key: string): Promise<Pick<ListedObject, 'size' | 'mtime' | 'etag'> | undefined> {
    this.asked.facts++;
    try {
      const found = await this.ask(key, (s3) => s3.headObject({ Bucket: this.bucket, Key: key }));
      return { size: found.ContentLength ?? 0, mtime: found.LastModified?.getTime() ?? 0, etag: bare(found.ETag) };
    } catch (error) {
      if (error instanceof SourceError && error.code === 'OBJECT_GONE') return undefined;
      throw error;
    }
  }

  async tags(key: string, version?: string): Promise<ObjectFacts['tags']> {
    this.asked.facts++;
    const { TagSet = [] } = await this.ask(key, (s3) =>
      s3.getObjectTagging({ Bucket: this.bucket, Key: key, ...(version !== undefined && { VersionId: version }) }),
    );
    return TagSet.map((t) => [t.Key ?? '', t.Value ?? '']);
  }

  /** Who may do what with an object, beside its owner. */
  async grants(key: string, version?: string): Promise<NonNullable<ObjectFacts['grants']>> {
    this.asked.facts++;
    return grantsOf(
      await this.ask(key, (s3) => s3.getObjectAcl({ Bucket: this.bucket, Key: key, ...(version !== undefined && { VersionId: version }) })),
    );
  }
}

const headerFields = {
  ContentType: 'content-type',
  CacheControl: 'cache-control',
  ContentDisposition: 'content-disposition',
  ContentEncoding: 'content-encoding',
  ContentLanguage: 'content-language',
} as const;

function openedOf(got: GetObjectCommandOutput): OpenObject {
  const headers: Record<string, string> = {};
  for (const [field, name] of Object.entries(headerFields)) {
    const value = got[field as keyof typeof headerFields];
    if (value !== undefined) headers[name] = value;
  }
  const expires = got.ExpiresString;
  if (expires !== undefined) headers['expires'] = expires;
  const size = got.ContentRange ? Number(/\/(\d+)$/.exec(got.ContentRange)?.[1] ?? 0) : (got.ContentLength ?? 0);
  return {
    size,
    mtime: got.LastModified?.getTime() ?? 0,
    tagCount: got.TagCount ?? null,
    body: got.Body as unknown as AsyncIterable<Uint8Array>,
    facts: {
      etag: bare(got.ETag),
      headers,
      notes: got.Metadata ?? {},
      tags: [],
      class: got.StorageClass ?? 'STANDARD',
      version: got.VersionId === 'null' ? '' : (got.VersionId ?? ''),
      encryption: got.SSECustomerAlgorithm ? 'own key' : (got.ServerSideEncryption ?? ''),
    },
  };
}

import type { CompletedPart, ListObjectsV2CommandOutput, ListObjectVersionsCommandOutput, S3 } from '@aws-sdk/client-s3';
import { EngineError } from '../errors';
import { openBucketClient } from './bucket-client';
import { statusOf, translateBucketError } from './bucket-errors';
import type { BucketPlace } from './place';
import type { Room, Target } from './target';

/** Objects above this size travel in parts. */
const partBytes = 8 << 20;
const partsAtOnce = 3;
const tries = 4;
/** The mode that nobody can lift, the owner of the account included. */
const ObjectLockMode = 'COMPLIANCE' as const;

/** End of the only names that are written more than once. */
const rewritten = 'lithodex-store.json';

interface Page {
  readonly objects: readonly { readonly key: string; readonly bytes: number }[];
  readonly folders: readonly string[];
}

/** A bucket. Creation of roots relies on conditional writes of the service; `checkBucket` tells whether it has them. */
export class Bucket implements Target {
  readonly description: string;
  private client: Promise<S3> | undefined;

  constructor(readonly place: BucketPlace) {
    this.description = `${place.endpoint}/${place.bucket}/${place.prefix}`;
  }

  /** Asks the service, with its errors as those of the engine. */
  async ask<T>(name: string, act: (s3: S3) => Promise<T>): Promise<T> {
    try {
      return await act(await (this.client ??= openBucketClient(this.place, tries)));
    } catch (error) {
      throw translateBucketError(error, name, this.description);
    }
  }

  private at(name: string): { Bucket: string; Key: string } {
    return { Bucket: this.place.bucket, Key: this.place.prefix + name };
  }

  async put(name: string, data: Uint8Array): Promise<void> {
    if (data.length > partBytes) await this.putParts(name, data);
    else await this.ask(name, (s3) => s3.putObject({ ...this.at(name), Body: data }));
  }

  private async putParts(name: string, data: Uint8Array): Promise<void> {
    const begun = await this.ask(name, (s3) => s3.createMultipartUpload({ ...this.at(name), ChecksumAlgorithm: 'CRC32' }));
    const upload = { ...this.at(name), UploadId: begun.UploadId };
    try {
      const numbers = Array.from({ length: Math.ceil(data.length / partBytes) }, (_, i) => i);
      const parts: CompletedPart[] = [];
      const sendNext = async () => {
        for (let i = numbers.shift(); i !== undefined; i = numbers.shift()) {
          const part = { PartNumber: i + 1, Body: data.subarray(i * partBytes, (i + 1) * partBytes) };
          const sent = await this.ask(name, (s3) => s3.uploadPart({ ...upload, ...part, ChecksumAlgorithm: 'CRC32' }));
          parts[i] = { PartNumber: i + 1, ETag: sent.ETag, ChecksumCRC32: sent.ChecksumCRC32 };
        }
      };
      await Promise.all(Array.from({ length: partsAtOnce }, sendNext));
      await this.ask(name, (s3) => s3.completeMultipartUpload({ ...upload, MultipartUpload: { Parts: parts } }));
    } catch (error) {
      await this.ask(name, (s3) => s3.abortMultipartUpload(upload)).catch(() => undefined);
      throw error;
    }
  }

  async putExclusive(name: string, data: Uint8Array, lockedUntil = 0): Promise<boolean> {
    const lock = lockedUntil > Date.now() && { ObjectLockMode, ObjectLockRetainUntilDate: new Date(lockedUntil) };
    for (;;) {
      try {
        await this.ask(name, (s3) => s3.putObject({ ...this.at(name), Body: data, IfNoneMatch: '*', ...lock }));
        return true;
      } catch (error) {
        const status = statusOf(error);
        if (status === 412) return false;
        // another writer is at it: who of us wins is known once it has ended
        if (status !== 409) throw error;
      }
    }
  }

  async read(name: string): Promise<Buffer> {
    return this.get(name);
  }

  async readKept(name: string): Promise<Buffer[]> {
    if (!this.place.locks) return [await this.read(name)];
    const { versions } = await this.versionsOf(name);
    if (!versions.length) throw new EngineError('OBJECT_MISSING', name);
    return Promise.all(versions.map((id) => this.get(name, undefined, id)));
  }

  async readRange(name: string, offset: number, length: number): Promise<Buffer> {
    if (length === 0) return Buffer.alloc(0);
    const data = await this.get(name, `bytes=${offset}-${offset + length - 1}`);
    if (data.length !== length) throw new EngineError('OBJECT_DAMAGED', `${name} is cut short`);
    return data;
  }

  private async get(name: string, range?: string, version?: string): Promise<Buffer> {
    const asked = { ...this.at(name), ...(range && { Range: range }), ...(version && { VersionId: version }) };
    try {
      const got = await this.ask(name, (s3) => s3.getObject(asked));
      return Buffer.from(await got.Body!.transformToByteArray());
    } catch (error) {
      const failure = translateBucketError(error, name, this.description);
      const first = failure.code === 'OBJECT_MISSING' && !version ? await this.firstVersion(name) : undefined;
      if (!first) throw failure;
      return this.get(name, range, first);
    }
  }

  async list(prefix: string): Promise<string[]> {
    const below = this.place.prefix + prefix;
    const names = new Set<string>();
    for await (const page of this.pages(below, '/')) {
      for (const object of page.objects) names.add(object.key.slice(below.length));
      for (const folder of page.folders) names.add(folder.slice(below.length, -1));
    }
    return [...names].filter((name) => name !== '').sort();
  }

  async listDeep(prefix: string): Promise<string[]> {
    const below = this.place.prefix + prefix;
    const names = new Set<string>();
    for await (const page of this.pages(below)) for (const object of page.objects) names.add(object.key.slice(below.length));
    return [...names];
  }

  /** Where versions can be locked, all of them are listed: a marker that hides a locked object must not hide it from us. */
  private pages(prefix: string, delimiter?: string): AsyncGenerator<Page> {
    return this.place.locks ? this.versionPages(prefix, delimiter) : this.objectPages(prefix, delimiter);
  }

  private async *objectPages(prefix: string, delimiter: string | undefined): AsyncGenerator<Page> {
    const asked = { Bucket: this.place.bucket, Prefix: prefix, ...(delimiter && { Delimiter: delimiter }) };
    let page: ListObjectsV2CommandOutput | undefined;
    do {
      const more = page?.NextContinuationToken;
      page = await this.ask(prefix, (s3) => s3.listObjectsV2({ ...asked, ...(more && { ContinuationToken: more }) }));
      yield {
        objects: (page.Contents ?? []).map((o) => ({ key: o.Key!, bytes: o.Size ?? 0 })),
        folders: (page.CommonPrefixes ?? []).map((f) => f.Prefix!),
      };
    } while (page.IsTruncated);
  }

  private async *versionPages(prefix: string, delimiter: string | undefined): AsyncGenerator<Page> {
    for await (const page of this.versions(prefix, delimiter))
      yield {
        objects: (page.Versions ?? []).map((v) => ({ key: v.Key!, bytes: v.Size ?? 0 })),
        folders: (page.CommonPrefixes ?? []).map((f) => f.Prefix!),
      };
  }

  private async *versions(prefix: string, delimiter?: string): AsyncGenerator<ListObjectVersionsCommandOutput> {
    const asked = { Bucket: this.place.bucket, Prefix: prefix, ...(delimiter && { Delimiter: delimiter }) };
    let page: ListObjectVersionsCommandOutput | undefined;
    do {
      const from = page && { KeyMarker: page.NextKeyMarker, VersionIdMarker: page.NextVersionIdMarker };
      page = await this.ask(prefix, (s3) => s3.listObjectVersions({ ...asked, ...from }));
      yield page;
    } while (page.IsTruncated);
  }

  /** What there is under a name: ids of versions, newest first as the service lists them, and of markers that hide them. */
  private async versionsOf(name: string): Promise<{ versions: string[]; markers: string[] }> {
    const { Key } = this.at(name);
    const found: { versions: string[]; markers: string[] } = { versions: [], markers: [] };
    for await (const page of this.versions(Key)) {
      for (const v of page.Versions ?? []) if (v.Key === Key) found.versions.push(v.VersionId!);
      for (const m of page.DeleteMarkers ?? []) if (m.Key === Key) found.markers.push(m.VersionId!);
      if (page.IsTruncated && page.NextKeyMarker !== Key) break;
    }
    return found;
  }

  /** The version that counts of a lockable object: the first, as the store writes a name once; undefined where no version is kept. */
  private async firstVersion(name: string): Promise<string | undefined> {
    if (!this.place.locks) return undefined;
    const { versions } = await this.versionsOf(name);
    return name.endsWith(rewritten) ? versions[0] : versions.at(-1);
  }

  /** Removes the object and, where the bucket keeps versions, all of them: an older version would go on taking room. */
  async remove(name: string): Promise<void> {
    const { Bucket, Key } = this.at(name);
    if (this.place.locks && (await this.lockedUntil(name)) > Date.now()) throw new EngineError('OBJECT_LOCKED', name);
    const { versions, markers } = await this.versionsOf(name);
    for (const VersionId of [...versions, ...markers]) await this.ask(name, (s3) => s3.deleteObject({ Bucket, Key, VersionId }));
  }

  async lock(name: string, until: number): Promise<void> {
    if (until <= Math.max(Date.now(), await this.lockedUntil(name))) return;
    const VersionId = await this.firstVersion(name);
    if (!VersionId) throw new EngineError(this.place.locks ? 'OBJECT_MISSING' : 'TARGET_REFUSED', `${name}: the bucket has no object lock`);
    const Retention = { Mode: ObjectLockMode, RetainUntilDate: new Date(until) } as const;
    await this.ask(name, (s3) => s3.putObjectRetention({ ...this.at(name), VersionId, Retention }));
  }

  async lockedUntil(name: string): Promise<number> {
    const VersionId = await this.firstVersion(name);
    if (!VersionId) return 0;
    try {
      const { Retention } = await this.ask(name, (s3) => s3.getObjectRetention({ ...this.at(name), VersionId }));
      return Retention?.RetainUntilDate?.getTime() ?? 0;
    } catch (error) {
      if (statusOf(error) === 404) return 0;
      throw error;
    }
  }

  /** Whether the bucket was made with object lock. Throws TARGET_REFUSED where that can't be asked. */
  async hasObjectLock(): Promise<boolean> {
    const asked = { Bucket: this.place.bucket };
    const { ObjectLockConfiguration } = await this.ask('', (s3) => s3.getObjectLockConfiguration(asked));
    return ObjectLockConfiguration?.ObjectLockEnabled === 'Enabled';
  }

  /** Locks an object of its own for the shortest time there is. Throws TARGET_REFUSED without the right to. */
  async mayLock(name: string): Promise<void> {
    await this.put(name, Buffer.from('a lock for a second'));
    await this.lock(name, Date.now() + 1000);
    await new Promise((resume) => setTimeout(resume, 1500));
    await this.remove(name);
  }

  async reveal(name: string): Promise<boolean> {
    const { Bucket, Key } = this.at(name);
    const first = await this.firstVersion(name);
    if (!first) return false;
    const { versions, markers } = await this.versionsOf(name);
    const over = [...versions, ...markers].filter((id) => id !== first);
    for (const VersionId of over) await this.ask(name, (s3) => s3.deleteObject({ Bucket, Key, VersionId }));
    return over.length > 0;
  }

  /** A bucket has no end that could be asked for. */
  async room(): Promise<Room> {
    let used = 0;
    for await (const page of this.pages(this.place.prefix)) for (const object of page.objects) used += object.bytes;
    return { used, free: null };
  }

  close(): void {
    // every read is a request of its own
  }
}

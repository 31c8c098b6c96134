import type { CompletedPart, ListObjectsV2CommandOutput, ListObjectVersionsCommandOutput, S3 } from '@aws-sdk/client-s3';
import { EngineError } from '../errors';
import { statusOf, translateBucketError } from './bucket-errors';
import type { Room, Target } from './target';

/** A bucket of an object storage that speaks the S3 protocol, addressed by path. */
export interface BucketPlace {
  readonly kind: 'bucket';
  /** Like https://objects.example:9000 */
  readonly endpoint: string;
  readonly region: string;
  readonly bucket: string;
  /** Put before every name; '' or ending in '/'. */
  readonly prefix: string;
  readonly accessKey: string;
  readonly secretKey: string;
}

/** Objects above this size travel in parts. */
const partBytes = 8 << 20;
const partsAtOnce = 3;
const connectMs = 5000;
const answerMs = 30_000;
const tries = 4;

/** A bucket. Creation of roots relies on conditional writes of the service; `checkBucket` tells whether it has them. */
export class Bucket implements Target {
  readonly description: string;
  private client: Promise<S3> | undefined;

  constructor(readonly place: BucketPlace) {
    this.description = `${place.endpoint}/${place.bucket}/${place.prefix}`;
  }

  /** The SDK takes long to load, so only those who use a bucket load it. */
  private async connect(): Promise<S3> {
    process.env['AWS_SDK_JS_NODE_VERSION_SUPPORT_WARNING_DISABLED'] = 'true';
    const sdk = await import('@aws-sdk/client-s3');
    const { endpoint, region, accessKey, secretKey } = this.place;
    return new sdk.S3({
      endpoint,
      region,
      forcePathStyle: true,
      credentials: { accessKeyId: accessKey, secretAccessKey: secretKey },
      maxAttempts: tries,
      requestHandler: { connectionTimeout: connectMs, requestTimeout: answerMs, throwOnRequestTimeout: true },
    });
  }

  /** Asks the service, with its errors as those of the engine. */
  async ask<T>(name: string, act: (s3: S3) => Promise<T>): Promise<T> {
    try {
      return await act(await (this.client ??= this.connect()));
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

  async putExclusive(name: string, data: Uint8Array): Promise<boolean> {
    for (;;) {
      try {
        await this.ask(name, (s3) => s3.putObject({ ...this.at(name), Body: data, IfNoneMatch: '*' }));
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
    return this.get(name, undefined);
  }

  async readRange(name: string, offset: number, length: number): Promise<Buffer> {
    if (length === 0) return Buffer.alloc(0);
    const data = await this.get(name, `bytes=${offset}-${offset + length - 1}`);
    if (data.length !== length) throw new EngineError('OBJECT_DAMAGED', `${name} is cut short`);
    return data;
  }

  private async get(name: string, range: string | undefined): Promise<Buffer> {
    const got = await this.ask(name, (s3) => s3.getObject({ ...this.at(name), ...(range && { Range: range }) }));
    try {
      return Buffer.from(await got.Body!.transformToByteArray());
    } catch (error) {
      throw translateBucketError(error, name, this.description);
    }
  }

  async list(prefix: string): Promise<string[]> {
    const below = this.place.prefix + prefix;
    const names: string[] = [];
    for await (const page of this.pages(below, '/')) {
      for (const object of page.Contents ?? []) names.push(object.Key!.slice(below.length));
      for (const folder of page.CommonPrefixes ?? []) names.push(folder.Prefix!.slice(below.length, -1));
    }
    return names.filter((name) => name !== '').sort();
  }

  async listDeep(prefix: string): Promise<string[]> {
    const below = this.place.prefix + prefix;
    const names: string[] = [];
    for await (const page of this.pages(below)) for (const object of page.Contents ?? []) names.push(object.Key!.slice(below.length));
    return names;
  }

  private async *pages(prefix: string, delimiter?: string): AsyncGenerator<ListObjectsV2CommandOutput> {
    const asked = { Bucket: this.place.bucket, Prefix: prefix, ...(delimiter && { Delimiter: delimiter }) };
    let page: ListObjectsV2CommandOutput | undefined;
    do {
      const more = page?.NextContinuationToken;
      page = await this.ask(prefix, (s3) => s3.listObjectsV2({ ...asked, ...(more && { ContinuationToken: more }) }));
      yield page;
    } while (page.IsTruncated);
  }

  /** Removes the object and, where the bucket keeps versions, all of them: an older version would go on taking room. */
  async remove(name: string): Promise<void> {
    const { Bucket, Key } = this.at(name);
    let page: ListObjectVersionsCommandOutput | undefined;
    do {
      const from = page && { KeyMarker: page.NextKeyMarker, VersionIdMarker: page.NextVersionIdMarker };
      page = await this.ask(name, (s3) => s3.listObjectVersions({ Bucket, Prefix: Key, ...from }));
      for (const { VersionId } of [...(page.Versions ?? []), ...(page.DeleteMarkers ?? [])].filter((v) => v.Key === Key))
        await this.ask(name, (s3) => s3.deleteObject({ Bucket, Key, VersionId }));
    } while (page.IsTruncated && page.NextKeyMarker === Key);
  }

  /** A bucket has no end that could be asked for. */
  async room(): Promise<Room> {
    let used = 0;
    for await (const page of this.pages(this.place.prefix)) for (const object of page.Contents ?? []) used += object.Size ?? 0;
    return { used, free: null };
  }

  close(): void {
    // every read is a request of its own
  }
}

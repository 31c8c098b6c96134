import { createHash } from 'node:crypto';
import type { CompletedPart, PutObjectCommandInput } from '@aws-sdk/client-s3';
import type { TreeEntry } from '@lithodex/engine';
import type { ObjectFacts } from '@lithodex/kinds';
import { fileContent } from '../file-content';
import type { ReadableTree } from '../readable-tree';
import { isSourceError, SourceError } from '../source-error';
import type { BucketClient } from './bucket-client';
import { grantFields } from './object-facts';

const mebibyte = 1 << 20;
const leastPart = 16 * mebibyte;
/** The protocol allows 10 000; some room is left. */
const mostParts = 9000;
const md5Form = /^[0-9a-f]{32}$/;

interface Stored {
  readonly tree: ReadableTree;
  readonly entry: TreeEntry;
  readonly facts: ObjectFacts | undefined;
}
type Asked = Omit<PutObjectCommandInput, 'Bucket' | 'Key' | 'Body'>;

/** Writes objects as they were stored, with what was kept beside their bytes. */
export class ObjectWriter {
  /** `ownClass`: the class all of them get, '' for that of each; `moved` is told bytes that were sent. */
  constructor(
    private readonly client: BucketClient,
    private readonly ownClass: string,
    private readonly moved: (bytes: number) => void,
  ) {}

  /** Writes one; only where none is there, if so asked. Returns what could not be set, in words. Throws SourceError. */
  async write(key: string, stored: Stored, fresh: boolean): Promise<string> {
    const { facts, entry } = stored;
    const grants = facts?.grants?.length ? grantFields(facts.grants) : {};
    const asked: Asked = { ...this.askedOf(facts), ...(fresh && { IfNoneMatch: '*' }) };
    const send = (with_: Asked) => (entry.size > leastPart ? this.inParts(key, stored, with_) : this.atOnce(key, stored, with_));
    try {
      await send({ ...asked, ...grants });
      return '';
    } catch (error) {
      const about = isSourceError(error, 'BUCKET_RIGHT_MISSING') || isSourceError(error, 'BUCKET_FAILED');
      if (!about || !Object.keys(grants).length) throw error;
      // a bucket of today takes no access lists
      await send(asked);
      return 'who else may read it could not be set';
    }
  }

  private askedOf(facts: ObjectFacts | undefined): Asked {
    if (!facts) return this.ownClass === '' ? {} : { StorageClass: this.ownClass as NonNullable<Asked['StorageClass']> };
    const { headers, notes, tags } = facts;
    const expires = Date.parse(headers['expires'] ?? '');
    const kept = this.ownClass === '' ? facts.class : this.ownClass;
    return {
      ContentType: headers['content-type'],
      CacheControl: headers['cache-control'],
      ContentDisposition: headers['content-disposition'],
      ContentEncoding: headers['content-encoding'],
      ContentLanguage: headers['content-language'],
      ...(Number.isFinite(expires) && { Expires: new Date(expires) }),
      ...(Object.keys(notes).length > 0 && { Metadata: notes }),
      ...(tags.length > 0 && { Tagging: new URLSearchParams(tags).toString().replace(/\+/g, '%20') }),
      ...(kept !== 'STANDARD' && kept !== '' && { StorageClass: kept as NonNullable<Asked['StorageClass']> }),
    };
  }

  private async atOnce(key: string, { tree, entry }: Stored, asked: Asked): Promise<void> {
    const parts: Buffer[] = [];
    for await (const piece of fileContent(tree, entry)) parts.push(Buffer.from(piece));
    const Body = Buffer.concat(parts);
    const { ETag = '', ServerSideEncryption } = await this.put(key, (at) => ({ ...at, ...asked, Body }));
    this.moved(Body.length);
    const told = ETag.replace(/"/g, '');
    const plain = !ServerSideEncryption || ServerSideEncryption === 'AES256';
    if (plain && md5Form.test(told) && told !== createHash('md5').update(Body).digest('hex')) throw new SourceError('NOT_AS_STORED', key);
  }

  private put(key: string, of: (at: { Bucket: string; Key: string }) => PutObjectCommandInput) {
    return this.client.ask(key, async (s3) => {
      try {
        return await s3.putObject(of({ Bucket: this.client.bucket, Key: key }));
      } catch (error) {
        throw meanwhile(error, key);
      }
    });
  }

  private async inParts(key: string, { tree, entry }: Stored, { IfNoneMatch, ...asked }: Asked): Promise<void> {
    const { client } = this;
    const at = { Bucket: client.bucket, Key: key };
    const begun = await client.ask(key, (s3) => s3.createMultipartUpload({ ...at, ...asked, ChecksumAlgorithm: 'CRC32' }));
    const upload = { ...at, UploadId: begun.UploadId };
    try {
      const Parts: CompletedPart[] = [];
      const partBytes = Math.max(leastPart, Math.ceil(entry.size / mostParts / mebibyte) * mebibyte);
      let pieces: Buffer[] = [];
      let bytes = 0;
      const send = async () => {
        const Body = Buffer.concat(pieces, bytes);
        [pieces, bytes] = [[], 0];
        const PartNumber = Parts.length + 1;
        const sent = await client.ask(key, (s3) => s3.uploadPart({ ...upload, PartNumber, Body, ChecksumAlgorithm: 'CRC32' }));
        Parts.push({ PartNumber, ETag: sent.ETag, ChecksumCRC32: sent.ChecksumCRC32 });
        this.moved(Body.length);
      };
      for await (const piece of fileContent(tree, entry)) {
        pieces.push(Buffer.from(piece));
        bytes += piece.length;
        if (bytes >= partBytes) await send();
      }
      if (bytes > 0) await send();
      await client.ask(key, async (s3) => {
        try {
          return await s3.completeMultipartUpload({ ...upload, MultipartUpload: { Parts }, ...(IfNoneMatch && { IfNoneMatch }) });
        } catch (error) {
          throw meanwhile(error, key);
        }
      });
    } catch (error) {
      await client.ask(key, (s3) => s3.abortMultipartUpload(upload)).catch(() => undefined);
      throw error;
    }
    const now = await client.head(key);
    if (now?.size !== entry.size) throw new SourceError('NOT_AS_STORED', key);
  }
}

function meanwhile(error: unknown, key: string): unknown {
  const status = (error as { $metadata?: { httpStatusCode?: number } }).$metadata?.httpStatusCode;
  return status === 412 ? new SourceError('BUCKET_FAILED', `${key}: somebody else wrote it meanwhile`) : error;
}

import { randomBytes } from 'node:crypto';
import type { IncomingMessage } from 'node:http';
import { bodyOf } from './body';
import type { Objects } from './objects';
import { ServiceError } from './service-error';
import type { Received, Shelf, Version } from './shelf';

const smallestPart = 5 << 20;

interface Upload {
  readonly bucket: string;
  readonly key: string;
  readonly begun: IncomingMessage;
  readonly parts: Map<number, Received>;
}

/** Objects that come in parts. What is not completed when the service ends is lost, as nobody was told otherwise. */
export class Uploads {
  private readonly open = new Map<string, Upload>();

  constructor(
    private readonly shelf: Shelf,
    private readonly objects: Objects,
  ) {}

  begin(req: IncomingMessage, bucket: string, key: string): string {
    this.shelf.bucket(bucket);
    const id = randomBytes(16).toString('hex');
    this.open.set(id, { bucket, key, begun: req, parts: new Map() });
    return id;
  }

  private find(id: string, bucket: string, key: string): Upload {
    const upload = this.open.get(id);
    if (upload?.bucket !== bucket || upload.key !== key) throw new ServiceError('NoSuchUpload');
    return upload;
  }

  async part(req: IncomingMessage, bucket: string, key: string, id: string, number: number): Promise<Received> {
    const upload = this.find(id, bucket, key);
    if (!(number >= 1 && number <= 10_000)) throw new ServiceError('InvalidArgument', 'Part numbers go from 1 to 10000.');
    const { data, claims } = bodyOf(req);
    const received = await this.shelf.receive(data, claims);
    const before = upload.parts.get(number);
    if (before) this.shelf.discard(before);
    upload.parts.set(number, received);
    return received;
  }

  async complete(bucket: string, key: string, id: string, wanted: readonly { PartNumber: string; ETag: string }[]): Promise<Version> {
    const upload = this.find(id, bucket, key);
    const numbers = wanted.map((w) => Number(w.PartNumber));
    if (numbers.some((n, i) => i > 0 && n <= numbers[i - 1]!)) throw new ServiceError('InvalidPartOrder');
    const parts = wanted.map(({ PartNumber, ETag }, i) => {
      const part = upload.parts.get(Number(PartNumber));
      if (part?.md5.toString('hex') !== ETag.replace(/"|&quot;/g, '')) throw new ServiceError('InvalidPart');
      if (i < wanted.length - 1 && part.size < smallestPart) throw new ServiceError('EntityTooSmall');
      return part;
    });
    if (!parts.length) throw new ServiceError('MalformedXML');
    this.open.delete(id);
    for (const [number, part] of upload.parts) if (!numbers.includes(number)) this.shelf.discard(part);
    const etags = parts.map((p) => p.md5.toString('hex'));
    return this.objects.settle(upload.begun, bucket, key, await this.shelf.join(parts), etags);
  }

  abort(bucket: string, key: string, id: string): void {
    const upload = this.find(id, bucket, key);
    for (const part of upload.parts.values()) this.shelf.discard(part);
    this.open.delete(id);
  }

  list(bucket: string): { Key: string; UploadId: string }[] {
    return [...this.open].filter(([, u]) => u.bucket === bucket).map(([UploadId, u]) => ({ Key: u.key, UploadId }));
  }
}

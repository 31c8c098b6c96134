import { createHash, randomBytes } from 'node:crypto';
import {
  createReadStream,
  createWriteStream,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  writeFileSync,
} from 'node:fs';
import path from 'node:path';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { crc32 } from 'node:zlib';
import type { BodyClaims } from './body';
import { ServiceError } from './service-error';
import { SortedKeys } from './sorted-keys';

export interface Retention {
  readonly mode: 'GOVERNANCE' | 'COMPLIANCE';
  /** Instant, ms. */
  readonly until: number;
}

/** One version of an object, or the marker that it was deleted. */
export interface Version {
  readonly key: string;
  readonly id: string;
  readonly at: number;
  readonly marker: boolean;
  readonly size: number;
  readonly etag: string;
  /** Base64, of the whole object; absent for those that came in parts. */
  readonly crc32?: string;
  readonly meta: Record<string, string>;
  readonly parts?: readonly string[];
  /** Other than STANDARD. */
  readonly class?: string;
  /** What its bytes repeat; nothing of it is on the disk. */
  readonly filler?: string;
  tags?: readonly (readonly [string, string])[];
  readonly grants?: readonly { readonly by: string; readonly to: string; readonly right: string }[];
  retention?: Retention;
  legalHold?: boolean;
}

export interface BucketState {
  readonly name: string;
  readonly made: number;
  versioning: 'off' | 'Enabled' | 'Suspended';
  readonly lock: boolean;
  defaultRetention?: { readonly mode: Retention['mode']; readonly days: number };
}

export interface Received {
  readonly file: string;
  readonly size: number;
  readonly md5: Buffer;
  readonly crc32: string;
}

const base64OfCrc = (value: number) => {
  const bytes = Buffer.alloc(4);
  bytes.writeUInt32BE(value);
  return bytes.toString('base64');
};

/** Writes a file so that it is there whole or not at all. */
function writeWhole(file: string, text: string): void {
  writeFileSync(`${file}.new`, text);
  renameSync(`${file}.new`, file);
}

export interface KeptBucket {
  readonly state: BucketState;
  /** Versions of each key, newest first. */
  readonly keys: Map<string, Version[]>;
  readonly sorted: SortedKeys;
}

/** What the service keeps, on disk: a folder a bucket, in it one file of facts and one of bytes a version. Versions of a key are held newest first. */
export class Shelf {
  readonly buckets = new Map<string, KeptBucket>();

  constructor(private readonly folder: string) {
    mkdirSync(this.incoming, { recursive: true });
    for (const name of readdirSync(folder)) {
      const file = path.join(folder, name, 'bucket.json');
      if (!existsSync(file)) continue;
      const bucket = {
        state: JSON.parse(readFileSync(file, 'utf8')) as BucketState,
        keys: new Map<string, Version[]>(),
        sorted: new SortedKeys(),
      };
      this.buckets.set(name, bucket);
      const facts = readdirSync(path.join(folder, name)).filter((f) => f.endsWith('.version'));
      for (const version of facts.map((f) => JSON.parse(readFileSync(path.join(folder, name, f), 'utf8')) as Version))
        this.insert(bucket, version);
    }
  }

  private get incoming(): string {
    return path.join(this.folder, 'incoming');
  }

  private insert({ keys, sorted }: KeptBucket, version: Version): void {
    const versions = keys.get(version.key) ?? [];
    if (!versions.length) sorted.add(version.key);
    versions.push(version);
    versions.sort((a, b) => b.at - a.at || (a.id < b.id ? 1 : -1));
    keys.set(version.key, versions);
  }

  bucket(name: string): KeptBucket {
    const bucket = this.buckets.get(name);
    if (!bucket) throw new ServiceError('NoSuchBucket');
    return bucket;
  }

  saveBucket(state: BucketState): void {
    if (!/^[a-z0-9][a-z0-9.-]{2,62}$/.test(state.name)) throw new ServiceError('InvalidArgument', 'This is no name for a bucket.');
    const folder = path.join(this.folder, state.name);
    mkdirSync(folder, { recursive: true });
    writeWhole(path.join(folder, 'bucket.json'), JSON.stringify(state));
    if (!this.buckets.has(state.name)) this.buckets.set(state.name, { state, keys: new Map(), sorted: new SortedKeys() });
  }

  removeBucket(name: string): void {
    if (this.bucket(name).keys.size) throw new ServiceError('BucketNotEmpty');
    rmSync(path.join(this.folder, name), { recursive: true });
    this.buckets.delete(name);
  }

  private file(bucket: string, version: { readonly id: string }, kind: 'version' | 'bytes'): string {
    return path.join(this.folder, bucket, `${version.id}.${kind}`);
  }

  /** Takes in a body and checks it against its claims; it belongs to nothing yet. Throws BadDigest. */
  async receive(data: AsyncIterable<Buffer>, claims?: BodyClaims): Promise<Received> {
    const file = path.join(this.incoming, randomBytes(12).toString('hex'));
    const md5 = createHash('md5');
    let [size, crc] = [0, 0];
    async function* measured() {
      for await (const part of data) {
        size += part.length;
        md5.update(part);
        crc = crc32(part, crc);
        yield part;
      }
    }
    try {
      await pipeline(Readable.from(measured()), createWriteStream(file));
      const sums = { md5: md5.digest(), crc32: base64OfCrc(crc) };
      if (claims?.md5 && claims.md5 !== sums.md5.toString('base64')) throw new ServiceError('BadDigest');
      const claimed = claims?.crc32();
      if (claimed && claimed !== sums.crc32) throw new ServiceError('BadDigest');
      return { file, size, ...sums };
    } catch (error) {
      rmSync(file, { force: true });
      throw error;
    }
  }

  discard(received: Received): void {
    rmSync(received.file, { force: true });
  }

  /** Joins parts into one body. */
  async join(parts: readonly Received[]): Promise<Received> {
    const file = path.join(this.incoming, randomBytes(12).toString('hex'));
    async function* all() {
      for (const part of parts) yield* createReadStream(part.file) as AsyncIterable<Buffer>;
    }
    await pipeline(Readable.from(all()), createWriteStream(file));
    for (const part of parts) this.discard(part);
    const md5 = createHash('md5')
      .update(Buffer.concat(parts.map((p) => p.md5)))
      .digest();
    return { file, size: parts.reduce((sum, p) => sum + p.size, 0), md5, crc32: '' };
  }

  /** Makes a received body the newest version of a key. */
  add(bucketName: string, version: Version, received: Received | undefined): void {
    const bucket = this.bucket(bucketName);
    if (received) renameSync(received.file, this.file(bucketName, version, 'bytes'));
    writeWhole(this.file(bucketName, version, 'version'), JSON.stringify(version));
    this.insert(bucket, version);
  }

  /** Fills a bucket with objects that are made up as they are read, and gone when the service ends: by the million, for measuring. */
  makeUp(bucketName: string, count: number, size: number, keyOf: (n: number) => string, at: number): void {
    const bucket = this.bucket(bucketName);
    for (let n = 0; n < count; n++) {
      const key = keyOf(n);
      const md5 = createHash('md5').update(Buffer.alloc(size, key)).digest('hex');
      this.insert(bucket, { key, id: String(n), at, marker: false, size, etag: `"${md5}"`, meta: {}, filler: key });
    }
  }

  saveVersion(bucketName: string, version: Version): void {
    writeWhole(this.file(bucketName, version, 'version'), JSON.stringify(version));
  }

  removeVersion(bucketName: string, version: Version): void {
    const { keys, sorted } = this.bucket(bucketName);
    rmSync(this.file(bucketName, version, 'version'), { force: true });
    rmSync(this.file(bucketName, version, 'bytes'), { force: true });
    const rest = (keys.get(version.key) ?? []).filter((v) => v !== version);
    if (rest.length) keys.set(version.key, rest);
    else if (keys.delete(version.key)) sorted.remove(version.key);
  }

  read(bucketName: string, version: Version, start: number, end: number): Readable {
    if (version.size === 0) return Readable.from([]);
    if (version.filler !== undefined) return Readable.from([Buffer.alloc(version.size, version.filler).subarray(start, end + 1)]);
    return createReadStream(this.file(bucketName, version, 'bytes'), { start, end });
  }

  /** Bytes of all versions of all buckets. */
  used(): number {
    let sum = 0;
    for (const { keys } of this.buckets.values()) for (const versions of keys.values()) for (const v of versions) sum += v.size;
    return sum;
  }
}

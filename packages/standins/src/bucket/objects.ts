import { randomBytes } from 'node:crypto';
import type { IncomingMessage } from 'node:http';
import type { Readable } from 'node:stream';
import { bodyOf } from './body';
import { propertiesOf } from './properties';
import { ServiceError } from './service-error';
import type { BucketState, Received, Retention, Shelf, Version } from './shelf';

const dayMs = 86_400_000;
let counter = 0;

/** Ids that sort by the time they were given. */
const newId = (now: number) =>
  `${now.toString(16).padStart(12, '0')}${(counter++ % 0x1000000).toString(16).padStart(6, '0')}${randomBytes(5).toString('hex')}`;

/** How clients are told the id of a version. */
export const shownId = (bucket: BucketState, version: Version) => (bucket.versioning === 'off' ? 'null' : version.id);

const headerOf = (req: IncomingMessage, name: string) => {
  const value = req.headers[name];
  return typeof value === 'string' ? value : undefined;
};

function retentionFrom(mode: string | undefined, until: string | undefined, now: number): Retention | undefined {
  if (mode === undefined && until === undefined) return undefined;
  const at = Date.parse(until ?? '');
  if ((mode !== 'GOVERNANCE' && mode !== 'COMPLIANCE') || !(at > now))
    throw new ServiceError('InvalidArgument', 'The retain until date must be in the future!');
  return { mode, until: at };
}

/** Objects of the buckets: what the protocol says of versions, conditions and locks. */
export class Objects {
  constructor(
    private readonly shelf: Shelf,
    private readonly now: () => number,
  ) {}

  /** The version asked for, or the newest. Throws NoSuchKey, NoSuchVersion, MethodNotAllowed for a marker. */
  find(bucket: string, key: string, id: string | undefined): Version {
    const { state, keys } = this.shelf.bucket(bucket);
    const versions = keys.get(key) ?? [];
    const version = id === undefined ? versions[0] : versions.find((v) => shownId(state, v) === id);
    if (!version) throw new ServiceError(id === undefined ? 'NoSuchKey' : 'NoSuchVersion');
    if (version.marker) throw new ServiceError(id === undefined ? 'NoSuchKey' : 'MethodNotAllowed');
    return version;
  }

  private exists(bucket: string, key: string): boolean {
    const newest = this.shelf.bucket(bucket).keys.get(key)?.[0];
    return newest !== undefined && !newest.marker;
  }

  /** Throws PreconditionFailed when the request wants to create and the key is taken. */
  checkCreates(req: IncomingMessage, bucket: string, key: string): void {
    if (headerOf(req, 'if-none-match') === '*' && this.exists(bucket, key)) throw new ServiceError('PreconditionFailed');
  }

  async put(req: IncomingMessage, bucket: string, key: string): Promise<Version> {
    this.shelf.bucket(bucket);
    this.checkCreates(req, bucket, key);
    const { data, claims } = bodyOf(req);
    return this.settle(req, bucket, key, await this.shelf.receive(data, claims));
  }

  /** Gives a received body its name: at once, so that of two who create one wins. */
  settle(req: IncomingMessage, bucket: string, key: string, received: Received, parts?: readonly string[]): Version {
    const { state, keys } = this.shelf.bucket(bucket);
    try {
      this.checkCreates(req, bucket, key);
      const now = this.now();
      const asked = retentionFrom(headerOf(req, 'x-amz-object-lock-mode'), headerOf(req, 'x-amz-object-lock-retain-until-date'), now);
      const byDefault = state.defaultRetention && { mode: state.defaultRetention.mode, until: now + state.defaultRetention.days * dayMs };
      const retention = asked ?? byDefault;
      if (asked && !state.lock) throw new ServiceError('InvalidRequest', 'Bucket is missing Object Lock Configuration');
      const version: Version = {
        key,
        id: newId(now),
        at: now,
        marker: false,
        size: received.size,
        etag: `"${received.md5.toString('hex')}${parts ? `-${parts.length}` : ''}"`,
        ...(received.crc32 && { crc32: received.crc32 }),
        ...propertiesOf(req),
        ...(parts && { parts }),
        ...(retention && { retention }),
        ...(headerOf(req, 'x-amz-object-lock-legal-hold') === 'ON' && { legalHold: true }),
      };
      const replaced = state.versioning === 'off' ? [...(keys.get(key) ?? [])] : [];
      this.shelf.add(bucket, version, received);
      for (const old of replaced) this.shelf.removeVersion(bucket, old);
      return version;
    } catch (error) {
      this.shelf.discard(received);
      throw error;
    }
  }

  /** Deletes: a version for good when its id is given, else behind a marker where versions are kept. Throws AccessDenied for what is locked. */
  remove(bucket: string, key: string, id: string | undefined, mayBypass: boolean): { marker: boolean; id: string | undefined } {
    const { state, keys } = this.shelf.bucket(bucket);
    const versions = keys.get(key) ?? [];
    if (id === undefined && state.versioning !== 'off') {
      const now = this.now();
      const marker: Version = { key, id: newId(now), at: now, marker: true, size: 0, etag: '', meta: {} };
      this.shelf.add(bucket, marker, undefined);
      return { marker: true, id: marker.id };
    }
    const version = id === undefined ? versions[0] : versions.find((v) => shownId(state, v) === id);
    if (!version) return { marker: false, id };
    const { retention } = version;
    const locked = retention && retention.until > this.now() && !(retention.mode === 'GOVERNANCE' && mayBypass);
    if (version.legalHold || locked) throw new ServiceError('AccessDenied', 'Access Denied because object protected by object lock.');
    this.shelf.removeVersion(bucket, version);
    return { marker: version.marker, id };
  }

  /** Sets a retention. One that was promised can be made longer; shorter only in governance mode by those who may. */
  retain(bucket: string, key: string, id: string | undefined, mode: string, until: string, mayBypass: boolean): void {
    if (!this.shelf.bucket(bucket).state.lock) throw new ServiceError('InvalidRequest', 'Bucket is missing Object Lock Configuration');
    const version = this.find(bucket, key, id);
    const wanted = retentionFrom(mode, until, this.now());
    const held = version.retention;
    if (held && held.until > this.now()) {
      const weaker = !wanted || wanted.until < held.until || (held.mode === 'COMPLIANCE' && wanted.mode !== 'COMPLIANCE');
      if (weaker && (held.mode === 'COMPLIANCE' || !mayBypass))
        throw new ServiceError('AccessDenied', 'The retention can not be shortened.');
    }
    if (wanted) version.retention = wanted;
    this.shelf.saveVersion(bucket, version);
  }

  tag(bucket: string, key: string, id: string | undefined, tags: readonly [string, string][]): void {
    const version = this.find(bucket, key, id);
    version.tags = tags;
    this.shelf.saveVersion(bucket, version);
  }

  hold(bucket: string, key: string, id: string | undefined, on: boolean): void {
    if (!this.shelf.bucket(bucket).state.lock) throw new ServiceError('InvalidRequest', 'Bucket is missing Object Lock Configuration');
    const version = this.find(bucket, key, id);
    version.legalHold = on;
    this.shelf.saveVersion(bucket, version);
  }

  /** The bytes of a version, or the range a header asks for. Throws InvalidRange. */
  open(
    bucket: string,
    version: Version,
    range: string | undefined,
  ): { readonly from: number; readonly to: number; readonly data: Readable } {
    const asked = /^bytes=(\d*)-(\d*)$/.exec(range ?? '');
    let [from, to] = [0, version.size - 1];
    if (asked && (asked[1] || asked[2])) {
      from = asked[1] ? Number(asked[1]) : Math.max(0, version.size - Number(asked[2]));
      to = asked[1] && asked[2] ? Math.min(Number(asked[2]), to) : to;
      if (from > to) throw new ServiceError('InvalidRange');
    }
    return { from, to, data: this.shelf.read(bucket, version, from, to) };
  }
}

import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { pipeline } from 'node:stream/promises';
import { listenLocally, stopListening } from '../local-server';
import { textOf } from './body';
import { listObjects, listVersions } from './listing';
import { Objects, shownId } from './objects';
import { overview } from './overview';
import { accessList, tagging, tagsFrom } from './properties';
import { ServiceError } from './service-error';
import { Shelf, type BucketState, type Version } from './shelf';
import { accessKeyOf, checkSignature } from './signature';
import { allFine, suffer, type Switches } from './switches';
import { Uploads } from './uploads';
import { fromXml, toXml } from './xml';

export const rights = ['list', 'read', 'write', 'delete', 'lock', 'admin', 'bypass'] as const;
export type Right = (typeof rights)[number];

/** Who may ask, and for what. */
export interface Account {
  readonly accessKey: string;
  readonly secretKey: string;
  readonly rights: readonly Right[];
}

export interface BucketServiceOptions {
  /** Where objects are kept. */
  readonly folder: string;
  readonly accounts: readonly Account[];
  readonly port?: number;
  /** The clock of locks and versions, ms. */
  readonly now?: () => number;
}

interface Asked {
  readonly req: IncomingMessage;
  readonly res: ServerResponse;
  readonly bucket: string;
  readonly key: string;
  readonly query: URLSearchParams;
  readonly may: (right: Right) => void;
  readonly mayBypass: boolean;
}

/** An object storage that speaks the part of the S3 protocol that backup software needs, for tests and demonstrations. */
export class BucketService {
  readonly shelf: Shelf;
  switches: Switches = allFine;
  /** Requests as they are billed: listings and writes are one class, the others another. */
  readonly bill = { lists: 0, others: 0, bytes: 0 };
  private readonly objects: Objects;
  private readonly uploads: Uploads;
  private readonly server: Server;
  private requests = 0;

  constructor(private readonly options: BucketServiceOptions) {
    this.shelf = new Shelf(options.folder);
    this.objects = new Objects(this.shelf, this.now);
    this.uploads = new Uploads(this.shelf, this.objects);
    this.server = createServer((req, res) => void this.handle(req, res));
  }

  private readonly now = () => (this.options.now ?? Date.now)();

  /** Starts and returns the address. */
  start(): Promise<string> {
    return listenLocally(this.server, this.options.port);
  }

  stop(): Promise<void> {
    return stopListening(this.server);
  }

  /** Makes a bucket unless it is there. */
  makeBucket(name: string, lock = false, versions = lock): void {
    if (!this.shelf.buckets.has(name)) this.shelf.saveBucket({ name, made: this.now(), versioning: versions ? 'Enabled' : 'off', lock });
  }

  private async handle(req: IncomingMessage, res: ServerResponse): Promise<void> {
    try {
      // keys may hold dots and slashes that an address would be cleared of
      const [path = '/', search = ''] = (req.url ?? '/').split('?');
      if (path === '/' && req.method === 'GET' && !req.headers.authorization) {
        res.writeHead(200, { 'content-type': 'text/html; charset=utf-8' }).end(overview(this.shelf));
        return;
      }
      const account = this.options.accounts.find((a) => a.accessKey === accessKeyOf(req));
      if (!account) throw new ServiceError('InvalidAccessKeyId');
      checkSignature(req, account.secretKey, Date.now());
      const writes = req.method === 'PUT' || req.method === 'POST';
      this.billed(req, path, search);
      await suffer(this.switches, { number: ++this.requests, writes }, () => this.shelf.used());
      if (this.switches.ignoreConditions) delete req.headers['if-none-match'];
      const [bucket = '', ...rest] = decodeURIComponent(path.slice(1)).split('/');
      const may = (right: Right) => {
        if (!account.rights.includes(right)) throw new ServiceError('AccessDenied', `This account lacks the right "${right}".`);
      };
      const mayBypass = account.rights.includes('bypass') && req.headers['x-amz-bypass-governance-retention'] === 'true';
      const asked: Asked = { req, res, bucket, key: rest.join('/'), query: new URLSearchParams(search), may, mayBypass };
      if (!bucket) this.listBuckets(asked);
      else if (!asked.key) await this.onBucket(asked);
      else await this.onObject(asked);
    } catch (error) {
      this.refuse(req, res, error);
    }
  }

  private billed({ method = '' }: IncomingMessage, path: string, search: string): void {
    const ofBucket = /^\/[^/]*\/?$/.test(path);
    const lists = method === 'GET' && ofBucket && !/(^|&)(versioning|object-lock|location|tagging|acl)(=|&|$)/.test(search);
    if (method === 'PUT' || method === 'POST' || lists) this.bill.lists++;
    else if (method !== 'DELETE') this.bill.others++;
  }

  private refuse(req: IncomingMessage, res: ServerResponse, error: unknown): void {
    const known = error instanceof ServiceError ? error : new ServiceError('InternalError', String(error));
    if (res.headersSent) {
      res.destroy();
      return;
    }
    req.resume();
    res.writeHead(known.status, { 'content-type': 'application/xml' });
    res.end(req.method === 'HEAD' ? '' : toXml('Error', { Code: known.code, Message: known.message, Resource: req.url }));
  }

  private answer(res: ServerResponse, root: string, content: object): void {
    res.writeHead(200, { 'content-type': 'application/xml' }).end(toXml(root, content));
  }

  private listBuckets({ res, may }: Asked): void {
    may('list');
    const Bucket = [...this.shelf.buckets.values()].map(({ state }) => ({
      Name: state.name,
      CreationDate: new Date(state.made).toISOString(),
    }));
    this.answer(res, 'ListAllMyBucketsResult', { Owner: { ID: 'standin' }, Buckets: { Bucket } });
  }

  private async onBucket(asked: Asked): Promise<void> {
    const { req, res, bucket, query, may } = asked;
    const on = (name: string) => query.has(name);
    if (req.method === 'PUT' && ![...query.keys()].some((k) => k !== 'x-id')) {
      may('admin');
      req.resume();
      if (this.shelf.buckets.has(bucket)) throw new ServiceError('BucketAlreadyOwnedByYou');
      this.makeBucket(bucket, req.headers['x-amz-bucket-object-lock-enabled'] === 'true');
      res.writeHead(200, { location: `/${bucket}` }).end();
      return;
    }
    const kept = this.shelf.bucket(bucket);
    const { state } = kept;
    if (req.method === 'HEAD') {
      may('list');
      res.writeHead(200).end();
    } else if (req.method === 'DELETE') {
      may('admin');
      this.shelf.removeBucket(bucket);
      res.writeHead(204).end();
    } else if (req.method === 'POST' && on('delete')) await this.deleteMany(asked);
    else if (req.method === 'PUT') await this.configure(asked, state);
    else if (req.method !== 'GET') throw new ServiceError('MethodNotAllowed');
    else if (on('versioning')) this.answer(res, 'VersioningConfiguration', state.versioning === 'off' ? {} : { Status: state.versioning });
    else if (on('object-lock')) this.showLock(asked, state);
    else if (on('location')) this.answer(res, 'LocationConstraint', {});
    else {
      may('list');
      if (on('uploads')) this.answer(res, 'ListMultipartUploadsResult', { Bucket: bucket, Upload: this.uploads.list(bucket) });
      else if (on('versions')) this.answer(res, 'ListVersionsResult', listVersions(kept, query));
      else this.answer(res, 'ListBucketResult', listObjects(kept, query));
    }
  }

  private showLock({ res }: Asked, { lock, defaultRetention }: BucketState): void {
    if (!lock) throw new ServiceError('ObjectLockConfigurationNotFoundError');
    const Rule = defaultRetention && { DefaultRetention: { Mode: defaultRetention.mode, Days: defaultRetention.days } };
    this.answer(res, 'ObjectLockConfiguration', { ObjectLockEnabled: 'Enabled', ...(Rule && { Rule }) });
  }

  private async configure({ req, res, query, may }: Asked, state: BucketState): Promise<void> {
    may('admin');
    if (query.has('versioning')) {
      const { Status } = fromXml(await textOf(req), 'VersioningConfiguration');
      if (Status !== 'Enabled' && Status !== 'Suspended') throw new ServiceError('MalformedXML');
      if (state.lock && Status === 'Suspended') throw new ServiceError('InvalidRequest', 'A bucket with locks keeps its versions.');
      state.versioning = Status;
    } else if (query.has('object-lock')) {
      if (!state.lock) throw new ServiceError('InvalidRequest', 'Locks are switched on when the bucket is made.');
      const config = fromXml(await textOf(req), 'ObjectLockConfiguration') as {
        Rule?: { DefaultRetention?: { Mode?: string; Days?: string } };
      };
      const { Mode, Days } = config.Rule?.DefaultRetention ?? {};
      if (Mode === undefined) delete state.defaultRetention;
      else if ((Mode !== 'GOVERNANCE' && Mode !== 'COMPLIANCE') || !(Number(Days) > 0)) throw new ServiceError('MalformedXML');
      else state.defaultRetention = { mode: Mode, days: Number(Days) };
    } else throw new ServiceError('NotImplemented');
    this.shelf.saveBucket(state);
    res.writeHead(200).end();
  }

  private async deleteMany({ req, res, bucket, may, mayBypass }: Asked): Promise<void> {
    may('delete');
    const { Object: objects = [] } = fromXml(await textOf(req), 'Delete') as { Object?: { Key: string; VersionId?: string }[] };
    const Deleted: object[] = [];
    const failed: object[] = [];
    for (const { Key, VersionId } of objects)
      try {
        this.objects.remove(bucket, Key, VersionId, mayBypass);
        Deleted.push({ Key, ...(VersionId && { VersionId }) });
      } catch (error) {
        if (!(error instanceof ServiceError)) throw error;
        failed.push({ Key, ...(VersionId && { VersionId }), Code: error.code, Message: error.message });
      }
    this.answer(res, 'DeleteResult', { Deleted, Error: failed });
  }

  private async onObject(asked: Asked): Promise<void> {
    const { req, res, bucket, key, query, may, mayBypass } = asked;
    const id = query.get('versionId') ?? undefined;
    if (query.has('retention') || query.has('legal-hold')) {
      await this.lock(asked, id);
      return;
    }
    if (query.has('tagging') || query.has('acl')) {
      await this.properties(asked, id);
      return;
    }
    if (query.has('uploads') || query.has('uploadId')) {
      may('write');
      await this.upload(asked);
      return;
    }
    switch (req.method) {
      case 'GET':
      case 'HEAD':
        may('read');
        await this.send(asked, this.objects.find(bucket, key, id));
        return;
      case 'PUT': {
        may('write');
        if (req.headers['x-amz-copy-source']) throw new ServiceError('NotImplemented', 'Copies inside the service.');
        const version = await this.objects.put(req, bucket, key);
        res.writeHead(200, this.factsOf(bucket, version, true)).end();
        return;
      }
      case 'DELETE': {
        may('delete');
        const done = this.objects.remove(bucket, key, id, mayBypass);
        res
          .writeHead(204, { ...(done.id && { 'x-amz-version-id': done.id }), ...(done.marker && { 'x-amz-delete-marker': 'true' }) })
          .end();
        return;
      }
      default:
        throw new ServiceError('MethodNotAllowed');
    }
  }

  private factsOf(bucket: string, version: Version, withSum: boolean): Record<string, string> {
    const { state } = this.shelf.bucket(bucket);
    return {
      etag: version.etag,
      'last-modified': new Date(version.at).toUTCString(),
      ...(state.versioning !== 'off' && { 'x-amz-version-id': shownId(state, version) }),
      ...(version.retention && {
        'x-amz-object-lock-mode': version.retention.mode,
        'x-amz-object-lock-retain-until-date': new Date(version.retention.until).toISOString(),
      }),
      ...(version.legalHold && { 'x-amz-object-lock-legal-hold': 'ON' }),
      ...(withSum && version.crc32 && { 'x-amz-checksum-crc32': version.crc32 }),
      ...(version.tags?.length && { 'x-amz-tagging-count': String(version.tags.length) }),
      ...(version.class && { 'x-amz-storage-class': version.class }),
      ...version.meta,
    };
  }

  private async send({ req, res, bucket }: Asked, version: Version): Promise<void> {
    const wanted = req.headers['if-match'];
    if (wanted !== undefined && wanted !== version.etag) throw new ServiceError('PreconditionFailed');
    const frozen = version.class === 'GLACIER' || version.class === 'DEEP_ARCHIVE';
    if (frozen && req.method === 'GET') throw new ServiceError('InvalidObjectState');
    const range = typeof req.headers.range === 'string' ? req.headers.range : undefined;
    const { from, to, data } = this.objects.open(bucket, version, range);
    const part = range !== undefined;
    const headers = {
      'content-type': 'application/octet-stream',
      ...this.factsOf(bucket, version, !part && req.headers['x-amz-checksum-mode'] === 'ENABLED'),
      'accept-ranges': 'bytes',
      'content-length': to - from + 1,
      ...(part && { 'content-range': `bytes ${from}-${to}/${version.size}` }),
    };
    res.writeHead(part ? 206 : 200, headers);
    if (req.method === 'HEAD') {
      data.destroy();
      res.end();
    } else {
      this.bill.bytes += to - from + 1;
      await pipeline(data, res);
    }
  }

  private async upload({ req, res, bucket, key, query }: Asked): Promise<void> {
    const id = query.get('uploadId') ?? '';
    if (req.method === 'POST' && query.has('uploads')) {
      req.resume();
      this.answer(res, 'InitiateMultipartUploadResult', { Bucket: bucket, Key: key, UploadId: this.uploads.begin(req, bucket, key) });
    } else if (req.method === 'PUT') {
      const part = await this.uploads.part(req, bucket, key, id, Number(query.get('partNumber')));
      res.writeHead(200, { etag: `"${part.md5.toString('hex')}"`, 'x-amz-checksum-crc32': part.crc32 }).end();
    } else if (req.method === 'POST') {
      const { Part = [] } = fromXml(await textOf(req), 'CompleteMultipartUpload') as { Part?: { PartNumber: string; ETag: string }[] };
      this.objects.checkCreates(req, bucket, key);
      const version = await this.uploads.complete(bucket, key, id, Part);
      this.answer(res, 'CompleteMultipartUploadResult', { Bucket: bucket, Key: key, ETag: version.etag });
    } else if (req.method === 'DELETE') {
      this.uploads.abort(bucket, key, id);
      res.writeHead(204).end();
    } else throw new ServiceError('MethodNotAllowed');
  }

  private async properties({ req, res, bucket, key, query, may }: Asked, id: string | undefined): Promise<void> {
    const version = this.objects.find(bucket, key, id);
    const ofTags = query.has('tagging');
    if (req.method === 'GET') {
      may('read');
      if (ofTags) this.answer(res, 'Tagging', tagging(version));
      else this.answer(res, 'AccessControlPolicy', accessList(version));
      return;
    }
    if (!ofTags || req.method !== 'PUT') throw new ServiceError('NotImplemented');
    may('write');
    this.objects.tag(bucket, key, id, tagsFrom(await textOf(req)));
    res.writeHead(200).end();
  }

  private async lock({ req, res, bucket, key, query, may, mayBypass }: Asked, id: string | undefined): Promise<void> {
    const version = this.objects.find(bucket, key, id);
    if (req.method === 'GET') {
      may('read');
      if (query.has('legal-hold')) this.answer(res, 'LegalHold', { Status: version.legalHold ? 'ON' : 'OFF' });
      else if (!version.retention) throw new ServiceError('NoSuchObjectLockConfiguration');
      else {
        const { mode, until } = version.retention;
        this.answer(res, 'Retention', { Mode: mode, RetainUntilDate: new Date(until).toISOString() });
      }
      return;
    }
    may('lock');
    const text = await textOf(req);
    if (query.has('legal-hold')) this.objects.hold(bucket, key, id, fromXml(text, 'LegalHold')['Status'] === 'ON');
    else {
      const { Mode, RetainUntilDate } = fromXml(text, 'Retention');
      this.objects.retain(bucket, key, id, String(Mode), String(RetainUntilDate), mayBypass);
    }
    res.writeHead(200).end();
  }
}

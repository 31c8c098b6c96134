import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { listenLocally, stopListening } from '../local-server';
import type { Range } from './block-disk';
import type { AccountDescription, InsideAccount } from './description';
import { platformDocs } from './docs';
import { GuestFiles, type GuestProperties } from './guest-files';
import { platformPage } from './page';
import { actOfPeople } from './people';
import { Platform, type Machine } from './platform';
import { PlatformError } from './platform-error';
import type { DiskMove } from './remote-disk';
import { mustHave, SignIn } from './sign-in';
import { VolumeSnapshots } from './volume-snapshots';

export interface PlatformServiceOptions {
  /** Where machines and disks are kept. */
  readonly folder: string;
  readonly port?: number;
}

interface InsideAsked {
  readonly account: InsideAccount | null;
  readonly path: string;
  readonly item: { readonly kind: 'folder' } | { readonly kind: 'link'; readonly target: string };
  readonly properties: GuestProperties;
  readonly upload: string;
  readonly last: GuestProperties | null;
}

const largestBody = 256 << 20;
const largestPiece = 1 << 20;

async function bodyOf(req: IncomingMessage): Promise<Buffer> {
  const parts: Buffer[] = [];
  let bytes = 0;
  for await (const part of req as AsyncIterable<Buffer>) {
    bytes += part.length;
    if (bytes > largestBody) throw new PlatformError('INVALID', 'too large');
    parts.push(part);
  }
  return Buffer.concat(parts);
}

/** Waits until more can be written, or nobody reads any more. */
function drained(res: ServerResponse): Promise<void> {
  return new Promise((resume) => {
    const done = () => {
      res.off('drain', done).off('close', done);
      resume();
    };
    res.on('drain', done).on('close', done);
  });
}

async function jsonOf<T>(req: IncomingMessage): Promise<T> {
  try {
    return JSON.parse((await bodyOf(req)).toString() || '{}') as T;
  } catch {
    throw new PlatformError('INVALID', 'the body is no JSON');
  }
}

/** A small virtualization platform over HTTP, for tests and demonstrations. Programs sign in; people have acts of their own below /people. */
export class PlatformService {
  readonly platform: Platform;
  readonly signIn = new SignIn();
  readonly files: GuestFiles;
  readonly snapshots: VolumeSnapshots;
  private readonly server: Server;
  /** When the line has nothing more to send, by the monotonic clock. */
  private lineFree = 0;

  constructor(private readonly options: PlatformServiceOptions) {
    this.platform = new Platform(options.folder);
    this.signIn.setAccounts(this.platform.description.accounts);
    this.files = new GuestFiles(this.platform);
    this.snapshots = new VolumeSnapshots(`${options.folder}/snapshots`, this.platform);
    this.server = createServer((req, res) => void this.handle(req, res));
    this.server.keepAliveTimeout = 60_000;
  }

  start(): Promise<string> {
    return listenLocally(this.server, this.options.port);
  }

  async stop(): Promise<void> {
    await stopListening(this.server);
    this.files.close();
    this.platform.close();
  }

  private async handle(req: IncomingMessage, res: ServerResponse): Promise<void> {
    const send = (status: number, type: string, body: string) => {
      res.writeHead(status, { 'content-type': type, 'content-length': Buffer.byteLength(body) }).end(body);
    };
    try {
      const url = new URL(req.url!, 'http://platform');
      const parts = url.pathname.split('/').filter(Boolean).map(decodeURIComponent);
      if (parts[0] === 'docs') send(200, 'text/plain; charset=utf-8', platformDocs);
      else if (parts[0] === 'people') {
        const body = await jsonOf<unknown>(req);
        send(200, 'application/json', JSON.stringify(await actOfPeople(this.platform, this.signIn, parts[1] ?? '', body)));
      } else if (parts[0] !== 'v1') send(200, 'text/html; charset=utf-8', platformPage(this.platform));
      else await this.program(req, res, parts.slice(1), url.searchParams, send);
    } catch (error) {
      if (res.headersSent) {
        res.destroy();
        return;
      }
      const known = error instanceof PlatformError ? error : new PlatformError('DOWN', String(error));
      send(known.status, 'application/json', JSON.stringify({ code: known.code, message: known.message }));
    }
  }

  private async program(
    req: IncomingMessage,
    res: ServerResponse,
    parts: readonly string[],
    query: URLSearchParams,
    send: (status: number, type: string, body: string) => void,
  ): Promise<void> {
    const { switches } = this.platform;
    if (switches.delayMs) await new Promise((resume) => setTimeout(resume, switches.delayMs));
    if (switches.down) throw new PlatformError('DOWN', 'the platform does not answer');
    if (parts[0] === 'sessions' || parts[0] === 'challenges') {
      send(200, 'application/json', JSON.stringify(parts[0] === 'challenges' ? this.signIn.challenge() : await this.enter(req)));
      return;
    }
    const account = this.signIn.of((req.headers.authorization ?? '').replace(/^Bearer /, ''));
    const [what, id = '', part = '', partId = '', act = ''] = parts;
    if (what === 'machines' && part === 'disks' && act === 'read') {
      mustHave(account, 'disk.read');
      const { snapshot, ranges } = await jsonOf<{ snapshot?: string; ranges: Range[] }>(req);
      await this.sendRanges(res, id, partId, snapshot, ranges);
      return;
    }
    if (what === 'machines' && part === 'files') {
      mustHave(account, 'guest.files');
      const answer = await this.insideFiles(id, partId, await bodyOf(req));
      if (Buffer.isBuffer(answer))
        res.writeHead(200, { 'content-type': 'application/octet-stream', 'content-length': answer.length }).end(answer);
      else send(200, 'application/json', JSON.stringify(answer));
      return;
    }
    if (what === 'storages' && part === 'snapshots') {
      const answer = await this.storageSnapshots(account, req, id, partId, parts.slice(4));
      if (!Buffer.isBuffer(answer)) send(200, 'application/json', JSON.stringify(answer));
      else res.writeHead(200, { 'content-type': 'application/octet-stream', 'content-length': answer.length }).end(answer);
      return;
    }
    const asked = `${req.method} ${what}${id && '/M'}${part && `/${part}`}${partId && '/X'}${act && `/${act}`}`;
    send(200, 'application/json', JSON.stringify((await this.answer(asked, account, req, id, partId, query)) ?? {}));
  }

  private async enter(req: IncomingMessage): Promise<{ token: string }> {
    type Body = { account: string; password: string } | { certificate: string; challenge: string; signature: string };
    const body = await jsonOf<Body>(req);
    if ('certificate' in body) return this.signIn.byCertificate(body.certificate, body.challenge, body.signature);
    return this.signIn.byPassword(body.account, body.password);
  }

  private async answer(
    asked: string,
    account: AccountDescription,
    req: IncomingMessage,
    id: string,
    partId: string,
    query: URLSearchParams,
  ): Promise<unknown> {
    const { platform } = this;
    switch (asked) {
      case 'GET session':
        return { account: account.name, rights: account.rights, passwordEnds: account.passwordEnds };
      case 'GET inventory':
        mustHave(account, 'inventory.read');
        return { ...platform.inventory(), snapshots: this.snapshots.all() };
      case 'GET machines/M':
        mustHave(account, 'inventory.read');
        return platform.shown(platform.machine(id));
      case 'POST machines': {
        mustHave(account, 'machine.create');
        const machine = await jsonOf<Parameters<Platform['create']>[0]>(req);
        if (machine.disks.some((d) => d.remote)) mustHave(account, 'disk.write');
        return platform.shown(platform.create(machine));
      }
      case 'PUT machines/M': {
        const changes = await jsonOf<Partial<Machine>>(req);
        mustHave(account, 'running' in changes ? 'machine.power' : 'machine.create');
        await this.files.settle(id);
        if (changes.running && !platform.machine(id).running) await platform.start(id);
        return platform.shown(platform.change(id, changes));
      }
      case 'POST machines/M/cutover':
        mustHave(account, 'disk.write');
        await this.files.settle(id);
        await platform.cutOver(id);
        return platform.shown(platform.machine(id));
      case 'POST machines/M/disks/X/copy':
        mustHave(account, 'disk.write');
        platform.copyDisk(id, partId, await jsonOf<DiskMove>(req));
        return {};
      case 'DELETE machines/M':
        mustHave(account, 'machine.remove');
        platform.remove(id);
        return {};
      case 'POST machines/M/inside':
        mustHave(account, 'guest.quiesce');
        return platform.signInInside(id, await jsonOf<InsideAccount>(req));
      case 'POST machines/M/snapshots': {
        mustHave(account, 'snapshot.manage');
        const { name, quiesce, inside } = await jsonOf<{ name: string; quiesce: boolean; inside?: InsideAccount }>(req);
        if (quiesce) mustHave(account, 'guest.quiesce');
        await this.files.settle(id);
        return platform.takeSnapshot(id, name, quiesce, inside);
      }
      case 'DELETE machines/M/snapshots/X':
        mustHave(account, 'snapshot.manage');
        platform.removeSnapshot(id, partId);
        return {};
      case 'GET machines/M/disks/X/ranges': {
        mustHave(account, 'disk.read');
        const disk = platform.diskOf(id, partId);
        await platform.remoteOf(partId)?.have(0, 0);
        const since = query.get('since');
        const snapshot = query.get('snapshot') ?? undefined;
        return since === null ? disk.allocated(snapshot) : disk.changed(since, snapshot);
      }
      case 'GET machines/M/disks/X/place':
        mustHave(account, 'disk.read');
        await this.files.settle(id);
        return platform.placeOf(id, partId);
      case 'POST machines/M/disks/X/announce':
        mustHave(account, 'disk.write');
        platform.mayWrite(id, partId).announce((await jsonOf<{ ranges: Range[] }>(req)).ranges);
        return {};
      case 'POST machines/M/disks/X/write':
        mustHave(account, 'disk.write');
        return this.write(id, partId, await bodyOf(req));
      default:
        throw new PlatformError('NOT_FOUND', 'nothing is known by this address');
    }
  }

  /** What is asked of the snapshots of a storage. */
  private async storageSnapshots(
    account: AccountDescription,
    req: IncomingMessage,
    storage: string,
    id: string,
    [disks, disk = '', act]: readonly string[],
  ): Promise<unknown> {
    const asked = [req.method, disks, act].filter(Boolean).join(' ');
    mustHave(account, disks ? 'disk.read' : 'snapshot.manage');
    switch (asked) {
      case 'POST': {
        const { name } = await jsonOf<{ name: string }>(req);
        for (const machine of this.platform.inventory().machines) await this.files.settle(machine.id);
        return this.snapshots.take(storage, name);
      }
      case 'DELETE':
        this.snapshots.remove(storage, id);
        return {};
      case 'GET disks ranges':
        return this.snapshots.ranges(storage, id, disk);
      case 'POST disks read': {
        const data = this.snapshots.read(storage, id, disk, (await jsonOf<{ ranges: Range[] }>(req)).ranges);
        await this.waitForLine(data.length);
        return data;
      }
      default:
        throw new PlatformError('NOT_FOUND', 'nothing is known by this address');
    }
  }

  /** What is asked of the inside of a machine that runs. */
  private async insideFiles(id: string, act: string, body: Buffer): Promise<unknown> {
    const line = body.indexOf(10);
    const { account, path, ...more } = JSON.parse(body.subarray(0, line < 0 ? body.length : line).toString()) as InsideAsked;
    const machine = this.files.enter(id, account);
    switch (act) {
      case 'mounts':
        return this.files.mounts(machine);
      case 'list': {
        const items = await this.files.list(machine, path);
        return items ? { items } : null;
      }
      case 'read':
        return this.files.read(machine, path);
      case 'sum':
        return this.files.sum(machine, path);
      case 'make':
        this.files.make(machine, path, more.item, more.properties);
        return {};
      case 'write':
        this.files.write(machine, path, more.upload, more.last, body.subarray(line + 1));
        return {};
      default:
        throw new PlatformError('NOT_FOUND', 'nothing is known by this address');
    }
  }

  private write(id: string, diskId: string, body: Buffer): object {
    const disk = this.platform.mayWrite(id, diskId);
    const line = body.indexOf(10);
    const ranges = JSON.parse(body.subarray(0, line).toString()) as Range[];
    let at = line + 1;
    for (const [offset, length] of ranges) {
      if (at + length > body.length) throw new PlatformError('INVALID', 'bytes are missing');
      disk.write(offset, body.subarray(at, at + length));
      at += length;
    }
    return {};
  }

  /** Holds up who reads, where the line is no faster. */
  private async waitForLine(bytes: number): Promise<void> {
    const { lineRate } = this.platform.switches;
    if (lineRate === null) return;
    const now = performance.now();
    this.lineFree = Math.max(this.lineFree, now) + (bytes / lineRate) * 1000;
    if (this.lineFree - now > 1) await new Promise((resume) => setTimeout(resume, this.lineFree - now));
  }

  private async sendRanges(
    res: ServerResponse,
    id: string,
    diskId: string,
    snapshot: string | undefined,
    ranges: readonly Range[],
  ): Promise<void> {
    const disk = this.platform.diskOf(id, diskId);
    const length = ranges.reduce((sum, [, n]) => sum + n, 0);
    res.writeHead(200, { 'content-type': 'application/octet-stream', 'content-length': length });
    for (const [offset, total] of ranges)
      for (let from = offset; from < offset + total; from += largestPiece) {
        await this.platform.remoteOf(diskId)?.have(from, Math.min(largestPiece, offset + total - from));
        const piece = disk.bytes(from, Math.min(largestPiece, offset + total - from), snapshot);
        if (!res.write(piece)) await drained(res);
        await this.waitForLine(piece.length);
        if (res.closed) return;
      }
    res.end();
  }
}

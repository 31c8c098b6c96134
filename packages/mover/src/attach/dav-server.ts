import { createHash, timingSafeEqual } from 'node:crypto';
import type { IncomingMessage, ServerResponse } from 'node:http';
import https from 'node:https';
import type { AddressInfo } from 'node:net';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { fileContent, findWithParents, type ReadableTree } from '@lithodex/connectors';
import { EngineError, type TreeEntry } from '@lithodex/engine';
import type { Certificate } from './certificate';
import { etagOf, modifiedOf, multistatusBegin, multistatusEnd, pathOfHref, rangeOf, responseOf } from './dav-answers';

/** A folder and everything below it, to be shown. */
export interface ShownFolder {
  readonly tree: ReadableTree;
  readonly top: TreeEntry;
}

const mostConnections = 64;
const silenceMs = 60_000;
/** So long a wrong key is answered after. */
const slowMs = 500;
const reads = ['OPTIONS', 'PROPFIND', 'GET', 'HEAD'];
const digest = (text: string) => createHash('sha256').update(text).digest();

class Refused extends Error {
  constructor(
    readonly status: number,
    readonly headers: Record<string, string> = {},
  ) {
    super(String(status));
  }
}

/** Shows a folder over WebDAV (RFC 4918, class 1), read only, to whoever knows the key. Links and what is no file and no folder are not shown. */
export class DavServer {
  private readonly server: https.Server;
  private readonly expected: Buffer;
  private open = 0;

  constructor(
    { certificate, key }: Certificate,
    user: string,
    secret: string,
    private readonly shown: ShownFolder,
    private readonly onRead: (bytes: number) => void,
  ) {
    this.expected = digest(`Basic ${Buffer.from(`${user}:${secret}`).toString('base64')}`);
    this.server = https.createServer({ cert: certificate, key, minVersion: 'TLSv1.2' }, (req, res) => {
      void this.handle(req, res);
    });
    this.server.maxConnections = mostConnections;
    this.server.headersTimeout = silenceMs;
    this.server.requestTimeout = silenceMs;
    this.server.on('connection', (socket) => {
      this.open++;
      socket.on('close', () => this.open--);
    });
    this.server.on('tlsClientError', (_error, socket) => socket.destroy());
  }

  /** Connections that are open. */
  get clients(): number {
    return this.open;
  }

  listen(host: string): Promise<number> {
    return new Promise((resolve, reject) => {
      this.server.once('error', reject);
      this.server.listen(0, host, () => {
        resolve((this.server.address() as AddressInfo).port);
      });
    });
  }

  close(): void {
    this.server.close();
    this.server.closeAllConnections();
  }

  private async handle(req: IncomingMessage, res: ServerResponse): Promise<void> {
    // what is sent along is of no use to one who only shows
    req.resume();
    try {
      await this.answer(req, res);
    } catch (error) {
      if (res.headersSent) {
        res.destroy();
        return;
      }
      const refused = error instanceof Refused ? error : isMissing(error) ? new Refused(404) : new Refused(500);
      res.writeHead(refused.status, { 'content-length': 0, ...refused.headers }).end();
    }
  }

  private async answer(req: IncomingMessage, res: ServerResponse): Promise<void> {
    if (!timingSafeEqual(digest(req.headers.authorization ?? ''), this.expected)) {
      await new Promise((resume) => setTimeout(resume, slowMs));
      throw new Refused(401, { 'www-authenticate': 'Basic realm="Lithodex", charset="UTF-8"' });
    }
    const { method = '' } = req;
    if (!reads.includes(method)) throw new Refused(403);
    if (method === 'OPTIONS') {
      res.writeHead(200, { dav: '1', allow: reads.join(', '), 'ms-author-via': 'DAV', 'content-length': 0 }).end();
      return;
    }
    const path = pathOfHref(req.url ?? '');
    if (path === undefined) throw new Refused(400);
    const { tree, top } = this.shown;
    const entry = path === '' ? top : (await findWithParents(tree.trees, top, path)).entry;
    if (!isShown(entry)) throw new Refused(404);
    if (method === 'PROPFIND') await this.describe(req, res, path, entry);
    else await this.send(req, res, entry);
  }

  private async describe(req: IncomingMessage, res: ServerResponse, path: string, entry: TreeEntry): Promise<void> {
    const depth = req.headers.depth;
    if (depth !== '0' && depth !== '1') throw new Refused(403);
    const below = depth === '1' ? this.inside(entry, path) : nothing();
    const parts = async function* () {
      yield multistatusBegin;
      yield responseOf(path, entry);
      yield* below;
      yield multistatusEnd;
    };
    res.writeHead(207, { 'content-type': 'application/xml; charset=utf-8' });
    await pipeline(Readable.from(parts()), res);
  }

  private async *inside(entry: TreeEntry, path: string): AsyncGenerator<string> {
    if (!entry.folder) return;
    for await (const piece of this.shown.tree.trees.pieces(entry.folder.node))
      for (const child of piece) if (isShown(child)) yield responseOf(path === '' ? child.name : `${path}/${child.name}`, child);
  }

  private async send(req: IncomingMessage, res: ServerResponse, entry: TreeEntry): Promise<void> {
    if (entry.kind === 'folder') throw new Refused(405, { allow: 'OPTIONS, PROPFIND' });
    const headers = {
      etag: etagOf(entry),
      'last-modified': modifiedOf(entry),
      'accept-ranges': 'bytes',
      'content-type': 'application/octet-stream',
    };
    if (req.headers['if-none-match'] === headers.etag) throw new Refused(304, { etag: headers.etag });
    const range = rangeOf(req.headers.range, entry.size);
    if (range === null) throw new Refused(416, { 'content-range': `bytes */${entry.size}` });
    const { from, to } = range ?? { from: 0, to: entry.size };
    const part = range && { 'content-range': `bytes ${from}-${to - 1}/${entry.size}` };
    res.writeHead(range ? 206 : 200, { ...headers, ...part, 'content-length': to - from });
    if (req.method === 'HEAD') {
      res.end();
      return;
    }
    const content = async function* (this: DavServer) {
      for await (const piece of fileContent(this.shown.tree, entry, from, to)) {
        this.onRead(piece.length);
        yield piece;
      }
    };
    await pipeline(Readable.from(content.call(this), { objectMode: false }), res);
  }
}

const isMissing = (error: unknown) => error instanceof EngineError && error.code === 'PATH_MISSING';

const isShown = (entry: TreeEntry) => !entry.unread && (entry.kind === 'folder' || entry.kind === 'file');

async function* nothing(): AsyncGenerator<string> {
  // nothing is below what is asked for alone
}

import { createHash } from 'node:crypto';
import fs from 'node:fs';
import type { IncomingMessage, ServerResponse } from 'node:http';
import path from 'node:path';
import { pipeline } from 'node:stream/promises';
import { escapeHtml } from '../escape-html';
import type { TenantSwitches } from './switches';

const versionsFolder = '.versions';
const mostBody = 1 << 30;

/** Files of people and sites over WebDAV (RFC 4918), with the versions before each, in a folder of the host. */
export class TenantFiles {
  /** Bytes that may lie there in all; Infinity for no limit. */
  quota = Infinity;

  constructor(
    private readonly folder: string,
    /** Where it is found, as `/drives/`. */
    private readonly prefix: string,
    private readonly switches: TenantSwitches,
  ) {
    fs.mkdirSync(folder, { recursive: true });
  }

  /** The file an address means; undefined for one that leads elsewhere. */
  private at(url: string): { readonly file: string; readonly parts: string[] } | undefined {
    try {
      const { pathname } = new URL(url, 'http://files');
      const parts = pathname.slice(this.prefix.length).split('/').filter(Boolean).map(decodeURIComponent);
      if (parts.some((p) => p === '..' || p === '.' || p === versionsFolder || /[/\0]/.test(p))) return undefined;
      return { file: path.join(this.folder, ...parts), parts };
    } catch {
      return undefined;
    }
  }

  private used(): number {
    let bytes = 0;
    for (const e of fs.readdirSync(this.folder, { withFileTypes: true, recursive: true }))
      if (e.isFile() && !e.parentPath.includes(versionsFolder)) bytes += fs.statSync(path.join(e.parentPath, e.name)).size;
    return bytes;
  }

  async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const place = this.at(request.url ?? '/');
    const end = (status: number, headers: Record<string, string> = {}) => {
      request.resume();
      response.writeHead(status, headers).end();
    };
    if (!place) {
      end(400);
      return;
    }
    const { file, parts } = place;
    const stat = fs.statSync(file, { throwIfNoEntry: false });
    switch (request.method) {
      case 'PROPFIND':
        if (stat) this.list(request, response, file, parts, stat);
        else end(404);
        return;
      case 'GET':
      case 'HEAD':
        if (!stat?.isFile()) {
          end(404);
          return;
        }
        response.writeHead(200, { 'content-length': String(stat.size), etag: etagOf(stat), 'content-type': 'application/octet-stream' });
        if (request.method === 'HEAD') response.end();
        else await pipeline(fs.createReadStream(file), response);
        return;
      case 'MKCOL':
        if (stat) end(405);
        else if (!fs.existsSync(path.dirname(file))) end(409);
        else {
          fs.mkdirSync(file);
          end(201);
        }
        return;
      case 'PUT':
        await this.put(request, end, file, stat);
        return;
      case 'DELETE':
        if (!stat) end(404);
        else {
          fs.rmSync(file, { recursive: true });
          end(204);
        }
        return;
      case 'MOVE': {
        const to = this.at(String(request.headers['destination'] ?? ''));
        if (!stat || !to) end(409);
        else {
          fs.renameSync(file, to.file);
          end(201);
        }
        return;
      }
      default:
        end(405);
    }
  }

  private async put(
    request: IncomingMessage,
    end: (status: number, headers?: Record<string, string>) => void,
    file: string,
    stat: fs.Stats | undefined,
  ): Promise<void> {
    if (!fs.existsSync(path.dirname(file)) || stat?.isDirectory()) {
      end(409);
      return;
    }
    const length = Number(request.headers['content-length'] ?? mostBody);
    if (this.switches.full || this.used() + length > this.quota) {
      end(507);
      return;
    }
    const { 'if-none-match': none, 'if-match': only } = request.headers;
    if ((none === '*' && stat) || (only !== undefined && (!stat || etagOf(stat) !== only))) {
      end(412);
      return;
    }
    const temporary = path.join(this.folder, `.new-${process.pid}-${Math.random().toString(36).slice(2)}`);
    await pipeline(request, fs.createWriteStream(temporary));
    if (stat) {
      const kept = path.join(path.dirname(file), versionsFolder);
      fs.mkdirSync(kept, { recursive: true });
      fs.renameSync(file, path.join(kept, `${path.basename(file)}.${this.versionsOf(file).length + 1}`));
    }
    fs.renameSync(temporary, file);
    end(stat ? 204 : 201, { etag: etagOf(fs.statSync(file)) });
  }

  /** Paths of the versions before, oldest first. */
  versionsOf(file: string): string[] {
    const kept = path.join(path.dirname(file), versionsFolder);
    const stem = `${path.basename(file)}.`;
    if (!fs.existsSync(kept)) return [];
    return fs
      .readdirSync(kept)
      .filter((n) => n.startsWith(stem) && /^\d+$/.test(n.slice(stem.length)))
      .sort((a, b) => Number(a.slice(stem.length)) - Number(b.slice(stem.length)))
      .map((n) => path.join(kept, n));
  }

  private list(request: IncomingMessage, response: ServerResponse, file: string, parts: readonly string[], stat: fs.Stats): void {
    request.resume();
    if (request.headers['depth'] !== '0' && request.headers['depth'] !== '1') {
      response.writeHead(403).end();
      return;
    }
    const href = (own: readonly string[], folder: boolean) =>
      this.prefix + own.map((p) => encodeURIComponent(p)).join('/') + (folder && own.length ? '/' : '');
    const one = (own: readonly string[], at: fs.Stats) =>
      `<D:response><D:href>${escapeHtml(href(own, at.isDirectory()))}</D:href><D:propstat><D:prop>` +
      (at.isDirectory()
        ? `<D:resourcetype><D:collection/></D:resourcetype>${this.quota === Infinity ? '' : `<D:quota-available-bytes>${Math.max(0, this.quota - this.used())}</D:quota-available-bytes>`}`
        : `<D:resourcetype/><D:getcontentlength>${at.size}</D:getcontentlength><D:getetag>${escapeHtml(etagOf(at))}</D:getetag>`) +
      `<D:getlastmodified>${at.mtime.toUTCString()}</D:getlastmodified></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>`;
    const below =
      stat.isDirectory() && request.headers['depth'] === '1'
        ? fs
            .readdirSync(file)
            .filter((n) => n !== versionsFolder && !n.startsWith('.new-'))
            .map((n) => one([...parts, n], fs.statSync(path.join(file, n))))
        : [];
    response.writeHead(207, { 'content-type': 'application/xml; charset=utf-8' });
    response.end(
      `<?xml version="1.0" encoding="utf-8"?><D:multistatus xmlns:D="DAV:">${one(parts, stat)}${below.join('')}</D:multistatus>`,
    );
  }
}

const etagOf = (stat: fs.Stats): string =>
  `"${createHash('sha256').update(`${stat.ino} ${stat.size} ${stat.mtimeMs}`).digest('hex').slice(0, 24)}"`;

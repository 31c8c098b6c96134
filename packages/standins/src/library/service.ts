import { timingSafeEqual } from 'node:crypto';
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { listenLocally, stopListening } from '../local-server';
import { Library, LibraryError } from './library';
import { libraryPage } from './page';

export interface LibraryServiceOptions {
  /** Where the cartridges are kept. */
  readonly folder: string;
  /** What programs say to be let in. */
  readonly token: string;
  readonly drives: number;
  readonly slots: number;
  readonly port?: number;
}

const largestBody = 256 << 20;

async function bodyOf(req: IncomingMessage): Promise<Buffer> {
  const parts: Buffer[] = [];
  let bytes = 0;
  for await (const part of req as AsyncIterable<Buffer>) {
    bytes += part.length;
    if (bytes > largestBody) throw new LibraryError(413, 'REFUSED', 'a record is too large');
    parts.push(part);
  }
  return Buffer.concat(parts);
}

/**
 * A library of cartridges with a robot, spoken to over HTTP, for tests and demonstrations. Programs load, read, append and erase; a person at its page takes
 * cartridges out, brings them in and protects them.
 */
export class LibraryService {
  readonly library: Library;
  private readonly server: Server;

  constructor(private readonly options: LibraryServiceOptions) {
    this.library = new Library(options.folder, options.drives, options.slots);
    this.server = createServer((req, res) => void this.handle(req, res));
  }

  start(): Promise<string> {
    return listenLocally(this.server, this.options.port);
  }

  stop(): Promise<void> {
    return stopListening(this.server);
  }

  private mayEnter(req: IncomingMessage): boolean {
    const said = Buffer.from(req.headers.authorization ?? '');
    const wanted = Buffer.from(`Bearer ${this.options.token}`);
    return said.length === wanted.length && timingSafeEqual(said, wanted);
  }

  private async handle(req: IncomingMessage, res: ServerResponse): Promise<void> {
    const send = (status: number, type: string, body: string | Buffer) => {
      res.writeHead(status, { 'content-type': type, 'content-length': Buffer.byteLength(body) }).end(body);
    };
    try {
      const url = new URL(req.url!, 'http://library');
      const parts = url.pathname.split('/').filter(Boolean).map(decodeURIComponent);
      if (parts[0] !== 'v1') {
        await this.person(req, parts, send, res);
        return;
      }
      if (!this.mayEnter(req)) throw new LibraryError(401, 'REFUSED', 'the token is not right');
      if (this.library.switches.down) throw new LibraryError(503, 'DOWN', 'the library does not answer');
      const answer = await this.program(req, parts.slice(1), url.searchParams);
      if (Buffer.isBuffer(answer)) send(200, 'application/octet-stream', answer);
      else send(200, 'application/json', JSON.stringify(answer ?? {}));
    } catch (error) {
      const known = error instanceof LibraryError ? error : new LibraryError(500, 'DOWN', String(error));
      send(known.status, 'application/json', JSON.stringify({ code: known.code, message: known.message }));
    }
  }

  /** What programs may ask: all below /v1. */
  private async program(req: IncomingMessage, [what, barcode = '', part, record]: string[], query: URLSearchParams): Promise<unknown> {
    const { library } = this;
    const asked = `${req.method} ${what}${barcode && '/B'}${part ? `/${part}` : ''}${record ? '/N' : ''}`;
    switch (asked) {
      case 'GET library':
        return library.inventory();
      case 'POST cartridges/B/load':
        return library.load(barcode);
      case 'POST cartridges/B/erase':
        library.erase(barcode, Number(query.get('records')));
        return {};
      case 'POST cartridges/B/records':
        return library.append(barcode, await bodyOf(req));
      case 'GET cartridges/B/records/N':
        return library.read(barcode, Number(record), Number(query.get('offset') ?? 0), Number(query.get('length') ?? largestBody));
      default:
        throw new LibraryError(404, 'REFUSED', 'nothing is known by this address');
    }
  }

  /** What a person does who stands before it. */
  private async person(
    req: IncomingMessage,
    [act, barcode]: string[],
    send: (status: number, type: string, body: string) => void,
    res: ServerResponse,
  ): Promise<void> {
    const { library } = this;
    if (req.method === 'POST' && barcode) {
      if (act === 'take-out') library.takeOut(barcode);
      else if (act === 'bring-in') library.bringIn(barcode);
      else if (act === 'protect' || act === 'release') library.protect(barcode, act === 'protect');
      else throw new LibraryError(404, 'REFUSED', 'nothing is known by this address');
      res.writeHead(303, { location: '/' }).end();
    } else send(200, 'text/html; charset=utf-8', libraryPage(library));
  }
}

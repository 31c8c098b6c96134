import { createHash } from 'node:crypto';
import { Readable } from 'node:stream';
import { EngineError } from '@lithodex/engine';
import type { ShareAddress, ShareOpener } from '@lithodex/kinds';
import { AddressRefused, OutgoingClient, type OutgoingRequest } from '@lithodex/net';
import { fileContent } from '../file-content';
import { SourceError } from '../source-error';
import type { Share, ShareItem } from './share';

const silenceMs = 120_000;
const there = 405;

/** A share over WebDAV (RFC 4918): folders by MKCOL, files by PUT. Redirects are not followed. */
export class WebdavShare implements Share {
  private readonly base: URL;
  /** Short answers are let go, and of files no more is read than was sent. */
  private readonly client = new OutgoingClient(Number.MAX_SAFE_INTEGER, silenceMs);
  private readonly headers: Record<string, string>;

  constructor(address: Extract<ShareAddress, { kind: 'webdav' }>, { account, password }: ShareOpener) {
    this.base = new URL(address.url.replace(/\/*$/, '/'));
    this.headers = account ? { authorization: `Basic ${Buffer.from(`${account}:${password}`).toString('base64')}` } : {};
  }

  private at(path: string): URL {
    return new URL(path.split('/').map(encodeURIComponent).join('/'), this.base);
  }

  private async ask(method: string, path: string, fine: readonly number[], more: Partial<OutgoingRequest> = {}) {
    try {
      const answer = await this.client.request(this.at(path), {
        ...more,
        // what is no method of plain HTTP is one here
        method: method,
        headers: { ...this.headers, ...more.headers },
      });
      if (fine.includes(answer.statusCode)) return answer;
      await answer.body.dump();
      if (answer.statusCode === 401 || answer.statusCode === 403) throw new SourceError('SHARE_REFUSED', String(answer.statusCode));
      if (answer.statusCode === 507) throw new SourceError('NO_ROOM_THERE');
      throw new SourceError('SHARE_FAILED', `it answers ${answer.statusCode}`);
    } catch (error) {
      throw awayOf(error);
    }
  }

  private async folder(path: string): Promise<void> {
    await (await this.ask('MKCOL', `${path}/`, [201, there])).body.dump();
  }

  async makeFolder(path: string): Promise<void> {
    const parts = path.split('/').filter(Boolean);
    for (let i = 1; i <= parts.length; i++) await this.folder(parts.slice(0, i).join('/'));
  }

  async removeFolder(path: string): Promise<void> {
    await (await this.ask('DELETE', `${path}/`, [200, 204])).body.dump();
  }

  async write(
    below: string,
    items: AsyncIterable<ShareItem>,
    sent: (path: string, sum: string, bytes: number) => void,
    stopped: () => boolean,
  ): Promise<void> {
    const under = below ? `${below}/` : '';
    for await (const { path, entry, tree } of items) {
      if (stopped()) throw new EngineError('STOPPED');
      if (entry.kind === 'folder') await this.folder(under + path);
      if (entry.kind !== 'file') continue;
      const sum = createHash('sha256');
      const content = async function* () {
        for await (const piece of fileContent(tree, entry)) {
          sum.update(piece);
          yield piece;
        }
      };
      const body = Readable.from(content(), { objectMode: false });
      const headers = { 'content-length': String(entry.size), 'content-type': 'application/octet-stream' };
      await (await this.ask('PUT', under + path, [200, 201, 204], { body, headers })).body.dump();
      sent(path, sum.digest('hex'), entry.size);
    }
  }

  async read(
    below: string,
    files: ReadonlyMap<string, number>,
    each: (path: string, sum: string) => void,
    stopped: () => boolean,
  ): Promise<void> {
    const under = below ? `${below}/` : '';
    for (const [path, size] of files) {
      if (stopped()) throw new EngineError('STOPPED');
      const sum = createHash('sha256');
      let bytes = 0;
      const { body } = await this.ask('GET', under + path, [200]);
      try {
        for await (const piece of body as AsyncIterable<Buffer>) {
          bytes += piece.length;
          if (bytes > size) break;
          sum.update(piece);
        }
      } catch (error) {
        throw awayOf(error);
      }
      each(path, bytes > size ? '' : sum.digest('hex'));
    }
  }
}

/** What kept us from an answer, without what a stranger says. */
function awayOf(error: unknown): Error {
  if (error instanceof SourceError || error instanceof EngineError) return error;
  const code = (error as { code?: unknown }).code;
  const why = error instanceof AddressRefused ? error.message.replace(/\.$/, '') : typeof code === 'string' ? code : 'it does not answer';
  return new SourceError('SHARE_AWAY', why);
}

import { createHash } from 'node:crypto';
import type { IncomingMessage } from 'node:http';
import { ServiceError } from './service-error';

const lineLimit = 4096;

/** Parts of a body sent as aws-chunked: size in hex and an ignored extension, the bytes, and headers after the last. */
async function* unchunk(source: AsyncIterable<Buffer>, trailers: Map<string, string>): AsyncGenerator<Buffer> {
  let rest: Buffer = Buffer.alloc(0);
  let left = 0;
  let state: 'size' | 'data' | 'end' | 'trailer' = 'size';
  for await (const piece of source) {
    rest = rest.length ? Buffer.concat([rest, piece]) : piece;
    while (rest.length) {
      if (state === 'data') {
        const part = rest.subarray(0, left);
        rest = rest.subarray(part.length);
        left -= part.length;
        if (left === 0) state = 'end';
        yield part;
        continue;
      }
      const at = rest.indexOf('\r\n');
      if (at < 0) {
        if (rest.length > lineLimit) throw new ServiceError('InvalidRequest', 'A chunk header is too long.');
        break;
      }
      const line = rest.subarray(0, at).toString('latin1');
      rest = rest.subarray(at + 2);
      if (state === 'trailer') {
        const [name, value] = line.split(':');
        if (name && value) trailers.set(name.trim().toLowerCase(), value.trim());
      } else if (state === 'end') state = 'size';
      else {
        left = Number.parseInt(line, 16);
        if (Number.isNaN(left)) throw new ServiceError('InvalidRequest', 'A chunk header is no number.');
        state = left === 0 ? 'trailer' : 'data';
      }
    }
  }
  if (state !== 'trailer') throw new ServiceError('IncompleteBody');
}

/** What a body must be, by what its request says. */
export interface BodyClaims {
  readonly md5: string | undefined;
  readonly crc32: () => string | undefined;
}

/** The bytes of a request, whole and as their sums say when the stream ends. */
export function bodyOf(req: IncomingMessage): { readonly data: AsyncGenerator<Buffer>; readonly claims: BodyClaims } {
  const sum = String(req.headers['x-amz-content-sha256'] ?? '');
  const trailers = new Map<string, string>();
  const header = (name: string) => {
    const value = req.headers[name];
    return typeof value === 'string' ? value : undefined;
  };
  const plain = /^[0-9a-f]{64}$/.test(sum) || sum === 'UNSIGNED-PAYLOAD';
  if (!plain && sum !== 'STREAMING-UNSIGNED-PAYLOAD-TRAILER') throw new ServiceError('NotImplemented', `Bodies of kind ${sum}.`);
  const length = Number(header(plain ? 'content-length' : 'x-amz-decoded-content-length') ?? 0);

  async function* data(): AsyncGenerator<Buffer> {
    const hash = createHash('sha256');
    let got = 0;
    for await (const part of plain ? (req as AsyncIterable<Buffer>) : unchunk(req as AsyncIterable<Buffer>, trailers)) {
      hash.update(part);
      got += part.length;
      yield part;
    }
    if (got !== length) throw new ServiceError('IncompleteBody');
    if (sum.length === 64 && hash.digest('hex') !== sum) throw new ServiceError('BadDigest', 'The body is not what was signed.');
  }
  return {
    data: data(),
    claims: { md5: header('content-md5'), crc32: () => header('x-amz-checksum-crc32') ?? trailers.get('x-amz-checksum-crc32') },
  };
}

/** A short body as text. */
export async function textOf(req: IncomingMessage): Promise<string> {
  const parts: Buffer[] = [];
  let size = 0;
  for await (const part of bodyOf(req).data) {
    size += part.length;
    if (size > 1 << 20) throw new ServiceError('InvalidRequest', 'The document is too large.');
    parts.push(part);
  }
  return Buffer.concat(parts).toString();
}

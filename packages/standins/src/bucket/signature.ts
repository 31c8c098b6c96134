import { createHash, createHmac, timingSafeEqual } from 'node:crypto';
import type { IncomingMessage } from 'node:http';
import { ServiceError } from './service-error';

const skewMs = 15 * 60_000;
const hmac = (key: string | Buffer, text: string) => createHmac('sha256', key).update(text).digest();
const sha256 = (text: string) => createHash('sha256').update(text).digest('hex');

/** Percent-encoding as the signature has it: everything but the unreserved characters of RFC 3986. */
const encode = (text: string) => encodeURIComponent(text).replace(/[!'()*]/g, (c) => `%${c.charCodeAt(0).toString(16).toUpperCase()}`);

/** The access key a request was signed with, before anything is checked. */
export function accessKeyOf(req: IncomingMessage): string {
  const key = /Credential=([^/,]+)\//.exec(req.headers.authorization ?? '')?.[1];
  if (!key) throw new ServiceError('AccessDenied', 'The request is not signed.');
  return key;
}

/** Checks the signature (version 4, in the header) of a request. The sum of the body is checked as it is read. Throws SignatureDoesNotMatch, RequestTimeTooSkewed. */
export function checkSignature(req: IncomingMessage, secretKey: string, now: number): void {
  const parts =
    /^AWS4-HMAC-SHA256 Credential=[^/]+\/(\d{8})\/([^/]+)\/s3\/aws4_request, *SignedHeaders=([^,]+), *Signature=([0-9a-f]{64})$/.exec(
      req.headers.authorization ?? '',
    );
  if (!parts) throw new ServiceError('AccessDenied', 'Only header signatures of version 4 are understood.');
  const [, day, region, signedHeaders, signature] = parts as unknown as [string, string, string, string, string];
  const stamp = String(req.headers['x-amz-date'] ?? '');
  const at = Date.parse(stamp.replace(/^(\d{4})(\d\d)(\d\d)T(\d\d)(\d\d)(\d\d)Z$/, '$1-$2-$3T$4:$5:$6Z'));
  if (!(Math.abs(now - at) <= skewMs)) throw new ServiceError('RequestTimeTooSkewed');
  const [path, query = ''] = (req.url ?? '/').split('?') as [string, string?];
  const canonicalQuery = [...new URLSearchParams(query.replace(/\+/g, '%2B'))]
    .map(([k, v]) => [encode(k), encode(v)] as const)
    .sort(([a, x], [b, y]) => (a === b ? (x < y ? -1 : 1) : a < b ? -1 : 1))
    .map((pair) => pair.join('='))
    .join('&');
  const headers = signedHeaders.split(';').map(
    (name) =>
      `${name}:${String(req.headers[name] ?? '')
        .trim()
        .replace(/ +/g, ' ')}\n`,
  );
  const canonicalPath = decodeURIComponent(path).split('/').map(encode).join('/');
  const bodySum = String(req.headers['x-amz-content-sha256'] ?? '');
  const canonical = [req.method, canonicalPath, canonicalQuery, headers.join(''), signedHeaders, bodySum].join('\n');
  const scope = `${day}/${region}/s3/aws4_request`;
  const toSign = ['AWS4-HMAC-SHA256', stamp, scope, sha256(canonical)].join('\n');
  const key = hmac(hmac(hmac(hmac(`AWS4${secretKey}`, day), region), 's3'), 'aws4_request');
  if (!timingSafeEqual(hmac(key, toSign), Buffer.from(signature, 'hex'))) throw new ServiceError('SignatureDoesNotMatch');
}

import { EngineError } from '@lithodex/engine';
import { SourceError } from '../source-error';

interface ServiceError {
  readonly name?: string;
  readonly message?: string;
  readonly code?: string;
  readonly $metadata?: { readonly httpStatusCode?: number };
}

const refused = new Set(['InvalidAccessKeyId', 'SignatureDoesNotMatch', 'ExpiredToken', 'InvalidToken', 'RequestTimeTooSkewed']);
const away = new Set(['ServiceUnavailable', 'SlowDown', 'InternalError', 'RequestTimeout', 'TimeoutError']);
const unreachable = new Set(['ECONNREFUSED', 'ENOTFOUND', 'EHOSTUNREACH', 'ENETUNREACH', 'ETIMEDOUT', 'ECONNRESET', 'EPIPE', 'EAI_AGAIN']);
const certificates = /CERT|SELF_SIGNED|UNABLE_TO_VERIFY|ERR_TLS/;

/** An error of an object storage as one of a source; `what` names what was asked for. */
export function bucketErrorOf(error: unknown, what: string): SourceError | EngineError {
  if (error instanceof SourceError || error instanceof EngineError) return error;
  const { name = '', message = '', code, $metadata } = error as ServiceError;
  const status = $metadata?.httpStatusCode;
  if (refused.has(name)) return new SourceError('BUCKET_REFUSED', name);
  if (name === 'NoSuchBucket') return new SourceError('BUCKET_GONE', what);
  if (name === 'NoSuchKey' || name === 'NotFound' || status === 404) return new SourceError('OBJECT_GONE', what);
  if (name === 'InvalidObjectState') return new SourceError('OBJECT_FROZEN', what);
  if (status === 403 || name === 'AccessDenied') return new SourceError('BUCKET_RIGHT_MISSING', said(what, message));
  if (code !== undefined && (unreachable.has(code) || certificates.test(code))) return new SourceError('BUCKET_AWAY', code);
  if (away.has(name) || status === 503) return new SourceError('BUCKET_AWAY', name || String(status));
  if (code === 'ADDRESS_REFUSED') return new SourceError('BUCKET_REFUSED', message);
  // what something says that speaks the protocol is worth reading; what a stranger says is not passed on
  const speaks = /^[A-Z][A-Za-z]{2,60}$/.test(name) && !['Error', 'SyntaxError', 'TypeError', 'UnknownError', 'Unknown'].includes(name);
  return new SourceError('BUCKET_FAILED', speaks ? said(what, `${name}, ${message}`) : `${what}: no answer of an object storage`);
}

const said = (what: string, message: string) => `${what}${message ? `: ${message.slice(0, 300).replace(/\.$/, '')}` : ''}`;

/** Whether an error says that nothing more can be asked of the service. */
export const endsAll = (error: unknown): boolean =>
  error instanceof EngineError || (error instanceof SourceError && ['BUCKET_REFUSED', 'BUCKET_AWAY', 'BUCKET_GONE'].includes(error.code));

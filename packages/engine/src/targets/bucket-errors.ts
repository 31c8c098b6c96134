import { EngineError, systemCode } from '../errors';

const unreachable = new Set(['ECONNREFUSED', 'ENOTFOUND', 'EHOSTUNREACH', 'ENETUNREACH', 'ETIMEDOUT', 'ECONNRESET', 'EPIPE']);
const full = new Set(['InsufficientStorage', 'QuotaExceeded', 'ServiceQuotaExceededException']);

interface ServiceError {
  readonly name?: string;
  readonly message?: string;
  readonly $metadata?: { readonly httpStatusCode?: number };
}

/** An error of the object storage as one of the engine; the original stays as its cause. */
export function translateBucketError(error: unknown, name: string, bucket: string): EngineError {
  if (error instanceof EngineError) return error;
  const { name: code = '', message = '', $metadata } = error as ServiceError;
  const status = $metadata?.httpStatusCode;
  const options = { cause: error };
  if (code === 'NoSuchKey' || code === 'NotFound') return new EngineError('OBJECT_MISSING', name, options);
  if (code === 'NoSuchBucket') return new EngineError('TARGET_MISSING', `${bucket}: there is no such bucket`, options);
  if (full.has(code) || status === 507) return new EngineError('TARGET_FULL', name, options);
  const system = systemCode(error);
  if ((system && unreachable.has(system)) || code === 'TimeoutError')
    return new EngineError('TARGET_MISSING', `${bucket} does not answer (${system ?? code})`, options);
  if (system === 'ADDRESS_REFUSED') return new EngineError('TARGET_REFUSED', (error as Error).message, options);
  if (system === 'TOO_MUCH') return new EngineError('TARGET_REFUSED', `${bucket} sends more than makes sense`, options);
  if (code === 'InvalidRange') return new EngineError('OBJECT_DAMAGED', `${name} is cut short`, options);
  // what something says that speaks the protocol is worth reading; what a stranger says is not passed on
  const said = speaksProtocol(code)
    ? `${code}${message && message !== code ? `, ${message}` : ''}`
    : 'the service gave no answer of an object storage';
  return new EngineError('TARGET_REFUSED', `${name}: ${said}`, options);
}

/** Whether a code is one of the protocol's, and no page or banner of something else. */
const speaksProtocol = (code: string) =>
  /^[A-Z][A-Za-z]{2,60}$/.test(code) && !['Error', 'SyntaxError', 'TypeError', 'UnknownError', 'Unknown'].includes(code);

/** HTTP status the object storage answered with, or undefined. */
export function statusOf(error: unknown): number | undefined {
  return ((error as Error).cause as ServiceError | undefined)?.$metadata?.httpStatusCode;
}

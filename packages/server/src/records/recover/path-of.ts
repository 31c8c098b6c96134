import { safeParts, unescapePath } from '@lithodex/core';
import { ApiError } from '../../base/errors';

/** Byte-string path of an escaped one below a root. Throws INVALID for one that is none. */
export function pathOf(escaped: string): string {
  const path = unescapePath(escaped);
  if (!safeParts(path)) throw new ApiError('INVALID', [{ at: 'path' }], 'The path is not a plain path below the root.');
  return path;
}

import ignore from 'ignore';
import { escapePath } from '../paths/byte-path';

/** Decides which entries of a tree take part. Patterns follow gitignore rules; they are matched against escaped paths. */
export interface PathFilter {
  /** True when the entry is left out. A folder left out is not entered. `path` is a byte string relative to the root. */
  leftOut(path: string, isFolder: boolean): boolean;
}

/**
 * Exclude patterns leave out what they match. When there are include patterns, files must match one of them; folders are always entered,
 * since something below may match.
 */
export function pathFilter(include: readonly string[], exclude: readonly string[]): PathFilter {
  const options = { ignorecase: false, allowRelativePaths: true };
  const out = exclude.length ? ignore(options).add([...exclude]) : undefined;
  const only = include.length ? ignore(options).add([...include]) : undefined;
  return {
    leftOut(path, isFolder) {
      if (!out && !only) return false;
      const text = escapePath(path) + (isFolder ? '/' : '');
      if (out?.test(text).ignored) return true;
      return only !== undefined && !isFolder && !only.test(text).ignored;
    },
  };
}

/** True when `inner` is `outer` or lies below it; both are absolute paths without a trailing slash. */
export function isInside(inner: string, outer: string): boolean {
  return inner === outer || inner.startsWith(outer === '/' ? '/' : `${outer}/`);
}

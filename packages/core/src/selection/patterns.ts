import { escapePath } from '../paths/byte-path';
import { ignoreMatcher } from './gitignore';

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
  const out = exclude.length ? ignoreMatcher(exclude) : undefined;
  const only = include.length ? ignoreMatcher(include) : undefined;
  return {
    leftOut(path, isFolder) {
      if (!out && !only) return false;
      const text = escapePath(path);
      if (out?.(text, isFolder)) return true;
      return only !== undefined && !isFolder && !only(text, false);
    },
  };
}

/** True when `inner` is `outer` or lies below it; both are absolute paths without a trailing slash. */
export function isInside(inner: string, outer: string): boolean {
  return inner === outer || inner.startsWith(outer === '/' ? '/' : `${outer}/`);
}

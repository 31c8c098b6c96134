const [first, last] = [0x20, 0x7e];

/**
 * A text between two keys in the order of their bytes, about half way as printable characters go; `b` undefined for no end. Undefined where none is found: it only serves to share a
 * listing out, so it need not be.
 */
export function keyBetween(a: string, b: string | undefined): string | undefined {
  let at = 0;
  while (b !== undefined && at < a.length && a[at] === b[at]) at++;
  const head = a.slice(0, at);
  const low = at < a.length ? a.charCodeAt(at) : first - 1;
  const high = Math.min(b === undefined ? last + 1 : at < b.length ? b.charCodeAt(at) : first - 1, last + 1);
  const middle = Math.max(first, (low + high) >> 1);
  return middle > low && middle < high ? head + String.fromCharCode(middle) : behind(a, at);
}

/** A text that begins as `a` does up to and with `at`, and comes after it. */
function behind(a: string, at: number): string | undefined {
  if (at >= a.length || a.charCodeAt(at) > last) return undefined;
  const next = at + 1 < a.length ? a.charCodeAt(at + 1) : first - 1;
  if (next > last) return undefined;
  if (next >= last - 1) return behind(a, at + 1);
  return a.slice(0, at + 1) + String.fromCharCode((next + last + 1) >> 1);
}

import type { KeptBucket } from './shelf';
import { shownId } from './objects';

const mostKeys = 1000;
const encoded = (text: string, type: string | undefined) =>
  type === 'url'
    ? encodeURIComponent(text)
        .replace(/%2F/g, '/')
        .replace(/[!'()*]/g, (c) => `%${c.charCodeAt(0).toString(16).toUpperCase()}`)
    : text;

interface Page<T> {
  readonly entries: readonly T[];
  readonly folders: readonly string[];
  /** The last key or folder given when there is more. */
  readonly last: string | undefined;
}

/** A page of what `expand` gives for the keys after `after`; keys that go on behind the delimiter are one folder. */
function pageOf<T>(
  names: Iterable<string>,
  prefix: string,
  delimiter: string,
  after: string,
  limit: number,
  expand: (key: string) => T[],
): Page<T> {
  const entries: T[] = [];
  const folders: string[] = [];
  let last = '';
  for (const key of names) {
    const cut = delimiter ? key.indexOf(delimiter, prefix.length) : -1;
    const name = cut < 0 ? key : key.slice(0, cut + delimiter.length);
    if (name === last || (after && Buffer.compare(Buffer.from(name), Buffer.from(after)) <= 0)) continue;
    if (entries.length + folders.length >= limit) return { entries, folders, last };
    if (cut >= 0) folders.push(name);
    else entries.push(...expand(key));
    last = name;
  }
  return { entries, folders, last: undefined };
}

const isoOf = (at: number) => new Date(at).toISOString();

/** Answer to a listing of the newest versions. */
export function listObjects({ state, keys, sorted }: KeptBucket, query: URLSearchParams): object {
  const prefix = query.get('prefix') ?? '';
  const delimiter = query.get('delimiter') ?? '';
  const type = query.get('encoding-type') ?? undefined;
  const limit = Math.min(mostKeys, Number(query.get('max-keys') ?? mostKeys));
  const token = query.get('continuation-token');
  const after = token ? Buffer.from(token, 'base64url').toString() : (query.get('start-after') ?? '');
  const present = function* () {
    for (const key of sorted.behind(after, prefix)) if (!keys.get(key)![0]!.marker) yield key;
  };
  const page = pageOf(present(), prefix, delimiter, after, limit, (key) => [keys.get(key)![0]!]);
  return {
    Name: state.name,
    Prefix: encoded(prefix, type),
    ...(delimiter && { Delimiter: encoded(delimiter, type) }),
    ...(type && { EncodingType: type }),
    MaxKeys: limit,
    KeyCount: page.entries.length + page.folders.length,
    IsTruncated: page.last !== undefined,
    ...(page.last !== undefined && { NextContinuationToken: Buffer.from(page.last).toString('base64url') }),
    Contents: page.entries.map((v) => ({
      Key: encoded(v.key, type),
      LastModified: isoOf(v.at),
      ETag: v.etag,
      Size: v.size,
      StorageClass: v.class ?? 'STANDARD',
    })),
    CommonPrefixes: page.folders.map((f) => ({ Prefix: encoded(f, type) })),
  };
}

/** Answer to a listing of all versions and markers. A key's versions are never torn over two pages. */
export function listVersions({ state, keys, sorted }: KeptBucket, query: URLSearchParams): object {
  const prefix = query.get('prefix') ?? '';
  const delimiter = query.get('delimiter') ?? '';
  const type = query.get('encoding-type') ?? undefined;
  const limit = Math.min(mostKeys, Number(query.get('max-keys') ?? mostKeys));
  const after = query.get('key-marker') ?? '';
  const page = pageOf(sorted.behind(after, prefix), prefix, delimiter, after, limit, (key) =>
    keys.get(key)!.map((version, i) => ({ version, newest: i === 0 })),
  );
  const facts = ({ version: v, newest }: (typeof page.entries)[number]) => ({
    Key: encoded(v.key, type),
    VersionId: shownId(state, v),
    IsLatest: newest,
    LastModified: isoOf(v.at),
    ...(!v.marker && { ETag: v.etag, Size: v.size, StorageClass: v.class ?? 'STANDARD' }),
  });
  return {
    Name: state.name,
    Prefix: encoded(prefix, type),
    ...(type && { EncodingType: type }),
    MaxKeys: limit,
    IsTruncated: page.last !== undefined,
    ...(page.last !== undefined && { NextKeyMarker: encoded(page.last, type) }),
    Version: page.entries.filter((e) => !e.version.marker).map(facts),
    DeleteMarker: page.entries.filter((e) => e.version.marker).map(facts),
    CommonPrefixes: page.folders.map((f) => ({ Prefix: encoded(f, type) })),
  };
}

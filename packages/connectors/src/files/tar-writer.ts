import type { TreeEntry } from '@lithodex/engine';
import { ownAttributes } from './metadata';

/**
 * Headers of a POSIX tar archive (pax interchange format, IEEE Std 1003.1). Names may be any bytes: what does not fit a plain header goes into an
 * extended header, whose values are written as the raw bytes they are. Sparse files are written out in full.
 */
const block = 512;
const typeFlag: Record<TreeEntry['kind'], string> = { file: '0', link: '2', char: '3', block: '4', folder: '5', fifo: '6', socket: '' };

function octal(n: number, width: number): string {
  const text = Math.max(0, Math.floor(n)).toString(8);
  return text.length < width ? text.padStart(width - 1, '0') + '\0' : '7'.repeat(width - 1) + '\0';
}

interface PlainHeader {
  readonly name: string;
  readonly mode: number;
  readonly uid: number;
  readonly gid: number;
  readonly size: number;
  readonly mtime: number;
  readonly type: string;
  readonly linkName: string;
  readonly owner: string;
  readonly group: string;
  readonly major: number;
  readonly minor: number;
}

/** [field width, value] in the order of the format. */
function plainHeader(h: PlainHeader): Buffer {
  const fields: [number, string][] = [
    [100, h.name],
    [8, octal(h.mode, 8)],
    [8, octal(h.uid, 8)],
    [8, octal(h.gid, 8)],
    [12, octal(h.size, 12)],
    [12, octal(h.mtime, 12)],
    [8, '        '],
    [1, h.type],
    [100, h.linkName],
    [6, 'ustar\0'],
    [2, '00'],
    [32, h.owner],
    [32, h.group],
    [8, octal(h.major, 8)],
    [8, octal(h.minor, 8)],
  ];
  const header = Buffer.alloc(block);
  let at = 0;
  for (const [width, value] of fields) {
    header.write(value.slice(0, width), at, 'latin1');
    at += width;
  }
  const sum = header.reduce((a, b) => a + b, 0);
  header.write(`${sum.toString(8).padStart(6, '0')}\0 `, 148, 'latin1');
  return header;
}

/** One pax record: "length key=value\n", the length counting itself. */
function paxRecord(key: string, value: Buffer): Buffer {
  const body = Buffer.concat([Buffer.from(` ${key}=`, 'latin1'), value, Buffer.from('\n')]);
  let length = body.length;
  while (String(length).length + body.length !== length) length = String(length).length + body.length;
  return Buffer.concat([Buffer.from(String(length)), body]);
}

function paxTime(ns: bigint): string {
  const sign = ns < 0n ? '-' : '';
  const abs = ns < 0n ? -ns : ns;
  return `${sign}${abs / 1_000_000_000n}.${String(abs % 1_000_000_000n).padStart(9, '0')}`;
}

/** Zeros that fill a file's last block. */
export function tarPadding(size: number): Buffer {
  return Buffer.alloc((block - (size % block)) % block);
}

/** The end of an archive. */
export const tarEnd = Buffer.alloc(2 * block);

/**
 * Header of one entry at `path` (byte string). `linkTo` makes it a hard link to a path written before. Undefined for what tar can't hold (sockets).
 */
export function tarHeader(path: string, entry: TreeEntry, names: { owner: string; group: string }, linkTo?: string): Buffer | undefined {
  return headerOf(path, entry, names, linkTo, undefined);
}

/**
 * Header and map of a file with holes, in the form that GNU tar calls PAX 1.0 and other programs read too: only the data of its ranges follows. The map is lines of numbers: how many ranges, and offset and length of each.
 */
export function sparseTarHeader(path: string, entry: TreeEntry, names: { owner: string; group: string }): Buffer {
  const ranges = [...(entry.ranges ?? []), [entry.size, 0] as const];
  const lines = Buffer.from(`${ranges.length}\n${ranges.map(([offset, length]) => `${offset}\n${length}\n`).join('')}`);
  const map = Buffer.concat([lines, tarPadding(lines.length)]);
  const data = ranges.reduce((sum, [, length]) => sum + length, 0);
  return Buffer.concat([headerOf(path, entry, names, undefined, map.length + data)!, map]);
}

/** `held`: bytes that follow of a file with holes; undefined for one that is written out. */
function headerOf(
  path: string,
  entry: TreeEntry,
  names: { owner: string; group: string },
  linkTo: string | undefined,
  held: number | undefined,
): Buffer | undefined {
  const type = linkTo !== undefined ? '1' : typeFlag[entry.kind];
  if (type === '') return undefined;
  const name = entry.kind === 'folder' ? `${path}/` : path;
  const linkName = linkTo ?? entry.linkTarget ?? '';
  const size = type === '0' ? (held ?? entry.size) : 0;
  const records: Buffer[] = [];
  const text = (value: string) => Buffer.from(value, 'latin1');
  if (held !== undefined)
    records.push(
      paxRecord('GNU.sparse.major', text('1')),
      paxRecord('GNU.sparse.minor', text('0')),
      paxRecord('GNU.sparse.name', text(name)),
      paxRecord('GNU.sparse.realsize', text(String(entry.size))),
    );
  if (name.length > 100) records.push(paxRecord('path', text(name)));
  if (linkName.length > 100) records.push(paxRecord('linkpath', text(linkName)));
  if (size >= 8 ** 11) records.push(paxRecord('size', text(String(size))));
  if (entry.uid >= 8 ** 7) records.push(paxRecord('uid', text(String(entry.uid))));
  if (entry.gid >= 8 ** 7) records.push(paxRecord('gid', text(String(entry.gid))));
  if (entry.mtimeNs % 1_000_000_000n !== 0n || entry.mtimeNs < 0n || entry.mtimeNs >= 8n ** 11n * 1_000_000_000n)
    records.push(paxRecord('mtime', text(paxTime(entry.mtimeNs))));
  for (const [key, value] of ownAttributes(entry)) records.push(paxRecord(`SCHILY.xattr.${key}`, value));
  const base = {
    uid: entry.uid,
    gid: entry.gid,
    mode: entry.mode,
    mtime: Number(entry.mtimeNs / 1_000_000_000n),
    major: 0,
    minor: 0,
    ...names,
  };
  const parts: Buffer[] = [];
  if (records.length) {
    const body = Buffer.concat(records);
    parts.push(plainHeader({ ...base, name: 'pax-header', size: body.length, type: 'x', linkName: '' }), body, tarPadding(body.length));
  }
  const device = entry.device ?? 0;
  const major = (device >> 8) & 0xfff;
  const minor = (device & 0xff) | ((device >> 12) & 0xfff00);
  parts.push(plainHeader({ ...base, name: name.slice(0, 100), size, type, linkName: linkName.slice(0, 100), major, minor }));
  return Buffer.concat(parts);
}

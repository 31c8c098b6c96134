import { createHash } from 'node:crypto';
import { execFileSync } from 'node:child_process';
import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { gunzipSync } from 'node:zlib';
import { checkPlace, memoryBlocks, type Blocks } from '../blocks';
import type { FileSystem, VolumeItem } from '../file-system';

export function temporaryFolder(name: string): string {
  return fs.mkdtempSync(path.join(process.env['LITHODEX_TMP'] ?? os.tmpdir(), `lithodex-${name}-`));
}

export const run = (command: string, args: string[], input?: string): string =>
  execFileSync(command, args, { encoding: 'utf8', stdio: ['pipe', 'pipe', 'pipe'], maxBuffer: 1 << 28, input });

/** A file as a disk. Reads outside it are what tests look for. */
export function fileBlocks(file: string): Blocks & { close(): void } {
  const fd = fs.openSync(file, 'r');
  const { size } = fs.fstatSync(fd);
  return {
    size,
    async read(offset, length) {
      checkPlace({ size }, offset, length);
      const data = Buffer.alloc(length);
      fs.readSync(fd, data, 0, length, offset);
      return data;
    },
    close: () => fs.closeSync(fd),
  };
}

/** A disk that ships as a fixture. */
export function fixture(name: string): Blocks {
  return memoryBlocks(gunzipSync(fs.readFileSync(new URL(`../../fixtures/${name}.img.gz`, import.meta.url))));
}

export function emptyFile(file: string, size: number): void {
  fs.writeFileSync(file, '');
  fs.truncateSync(file, size);
}

/** Bytes of a file, its holes being read as zeros from the detail alone. */
export async function contentOf(system: FileSystem, item: VolumeItem): Promise<Buffer> {
  const { ranges } = await system.detail(item);
  const out = Buffer.alloc(item.size);
  for (const [offset, length] of ranges ?? [[0, item.size]])
    for (let at = offset; at < offset + length; at += 1 << 20) {
      const data = await system.read(item.key, at, Math.min(1 << 20, offset + length - at));
      data.copy(out, at);
    }
  return out;
}

export interface Walked {
  readonly item: VolumeItem;
  readonly linkTarget: string | undefined;
  readonly attributes: Readonly<Record<string, string>>;
  readonly sum: string;
}

export const sumOf = (data: Buffer): string => createHash('sha256').update(data).digest('hex');

/** Everything in a file system by its path (byte string); at most `most` items. */
export async function walk(system: FileSystem, most = Infinity): Promise<Map<string, Walked>> {
  const found = new Map<string, Walked>();
  const waiting: { path: string; item: VolumeItem }[] = [{ path: '', item: await system.top() }];
  for (let at = 0; at < waiting.length && found.size < most; at++) {
    const { path: base, item: folder } = waiting[at]!;
    for await (const piece of system.list(folder.key))
      for (const item of piece) {
        const own = base ? `${base}/${item.name}` : item.name;
        if (item.kind === 'folder') waiting.push({ path: own, item });
        const { linkTarget, attributes } = await system.detail(item);
        const sum = item.kind === 'file' && !item.unread ? sumOf(await contentOf(system, item)) : '';
        const plain = Object.fromEntries((attributes ?? []).map(([name, value]) => [name, value.toString('hex')]));
        found.set(own, { item, linkTarget, attributes: plain, sum });
      }
  }
  return found;
}

/** What SUMS in a file system (as `sha256sum` writes it) says otherwise than what was read: empty where all is as it was written. */
export async function differences(system: FileSystem, found: ReadonlyMap<string, Walked>): Promise<string[]> {
  const sums = found.get('SUMS');
  if (!sums) return ['no SUMS'];
  const wrong: string[] = [];
  const lines = (await contentOf(system, sums.item)).toString('latin1').trim().split('\n');
  for (const line of lines) {
    const own = line.slice(66).replace(/^\.\//, '');
    if (found.get(own)?.sum !== line.slice(0, 64)) wrong.push(own);
  }
  // further streams of a file have no sum of their own
  const files = [...found].filter(([path, { item }]) => item.kind === 'file' && !path.includes(':')).length;
  if (files !== lines.length + 1) wrong.push(`${files} files for ${lines.length} sums`);
  return wrong;
}

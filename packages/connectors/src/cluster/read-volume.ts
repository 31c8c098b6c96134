import { PassThrough, Writable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { joinPath } from '@lithodex/core';
import { FolderBuilder, packEntry, type PutChunk, type StreamStored, type TreeEntry } from '@lithodex/engine';
import type { Cluster } from '@lithodex/kinds';
import { extract } from 'tar-stream';
import { BaseFolder } from '../base-folder';
import type { ItemWriting } from '../item-writing';
import { SourceError } from '../source-error';
import { diskPath, volumePath } from './helper-pod';
import { runInPod, type InPod } from './pod-commands';
import { listingFormat, VolumeListing, type VolumeItem } from './volume-listing';

/** Smaller files go through memory whole. */
const smallBytes = 1 << 20;
/** A copy of a volume is made so much later than it says at most, by clocks that differ, ms. */
const slackMs = 300_000;
type ExtractOptions = NonNullable<Parameters<typeof extract>[0]>;

export interface VolumeReading {
  readonly out: ItemWriting;
  readonly put: PutChunk;
  readonly cluster: Cluster;
  readonly at: InPod;
  /** The volume in the point before. */
  readonly base: TreeEntry | undefined;
  /** Path in the point. */
  readonly path: string;
  /** When the volume that is read was made, ms: where its files were only made then, it is a copy, whose change times say nothing. */
  readonly madeAt: number;
  /** It can not change while it is read. */
  readonly frozen: boolean;
}

/** Names in archives are bytes. */
const rawNames = { filenameEncoding: 'latin1' } as ExtractOptions;

/** What was read of a file. */
interface Read {
  readonly stored: StreamStored;
}

/** Takes the files of a volume that a helper holds: those that are as the point before has them are not read. Throws SourceError. */
export async function readVolume(reading: VolumeReading): Promise<TreeEntry> {
  return new VolumeCapture(reading).run();
}

/** Takes a volume of blocks, whole: what is stored already is not stored again. */
export async function readDisk({ out, cluster, at, path }: VolumeReading, name: string): Promise<TreeEntry> {
  const pipe = new PassThrough({ highWaterMark: 4 << 20 });
  const [stored, { code, complaint }] = await Promise.all([
    out.streamed(pipe),
    runInPod(cluster, at, ['cat', diskPath], { stdout: pipe, stopped: out.ctx.stopped }),
  ]);
  if (code !== 0) throw new SourceError('VOLUME_FAILED', `${path}: ${complaint}`);
  out.progress.items++;
  out.progress.files++;
  const { size, content, random } = stored;
  return { ...plain(name), size, ...(content && { content }), ...(random && { random }) };
}

const plain = (name: string): TreeEntry => ({
  name,
  kind: 'file',
  mode: 0o600,
  uid: 0,
  gid: 0,
  mtimeNs: 0n,
  ctimeNs: 0n,
  inode: 0,
  size: 0,
});

class VolumeCapture {
  private readonly listing = new VolumeListing();
  /** By path; files with several names once. */
  private readonly wanted: { readonly path: string; readonly item: VolumeItem }[] = [];
  private readonly read = new Map<VolumeItem | string, Read>();
  /** Files with several names that are wanted already. */
  private readonly linked = new Set<string>();
  private readonly copied: bigint;

  constructor(private readonly reading: VolumeReading) {
    this.copied = BigInt(reading.madeAt - slackMs) * 1_000_000n;
  }

  private get out(): ItemWriting {
    return this.reading.out;
  }

  async run(): Promise<TreeEntry> {
    const { cluster, at, out, base, path } = { ...this.reading };
    const find = ['find', volumePath, '-mindepth', '1', '-xdev', '-printf', listingFormat];
    const { code, complaint } = await runInPod(cluster, at, find, { stdout: this.listing, stopped: out.ctx.stopped });
    if (code !== 0) this.complain(`its files can not be listed: ${complaint}`);
    if (this.listing.skipped) out.note('SKIPPED', path, `${this.listing.skipped} sockets and devices are left out`);
    await this.choose(this.listing.top, base, '', path);
    if (this.wanted.length) await this.take();
    const name = path.slice(path.lastIndexOf('/') + 1);
    return this.folder(this.listing.top, { ...plain(name), kind: 'folder', mode: 0o755 }, base, path);
  }

  private complain(why: string): void {
    if (this.reading.frozen) throw new SourceError('VOLUME_FAILED', `${this.reading.path}: ${why}`);
    this.out.warn('VOLUME_CHANGED', this.reading.path, why, false);
  }

  /** Which files have to be read. */
  private async choose(folder: Map<string, VolumeItem>, base: TreeEntry | undefined, below: string, path: string): Promise<void> {
    const { out } = this;
    const before = new BaseFolder(out.ctx.store.trees, base);
    for (const item of inOrder(folder)) {
      const place = joinPath(path, item.name);
      if (out.leftOut(place, item.kind === 'folder')) {
        folder.delete(item.name);
        continue;
      }
      const known = await before.of(item.name);
      const own = joinPath(below, item.name);
      if (item.below) await this.choose(item.below, known?.kind === 'folder' ? known : undefined, own, place);
      else if (item.kind === 'file' && item.size > 0) {
        const stored = known && this.asBefore(item, known);
        if (stored) {
          this.read.set(item, { stored });
          out.progress.bytes += item.size;
        } else if (item.hardId === undefined || !this.linked.has(item.hardId)) {
          if (item.hardId !== undefined) this.linked.add(item.hardId);
          this.wanted.push({ path: own, item });
        }
      }
    }
    out.goOn();
  }

  private asBefore(item: VolumeItem, before: TreeEntry): StreamStored | undefined {
    if (before.kind !== 'file' || before.unread || before.torn || before.size !== item.size || before.mtimeNs !== item.mtimeNs)
      return undefined;
    const isCopy = item.ctimeNs >= this.copied;
    if (!isCopy && (before.ctimeNs !== item.ctimeNs || before.inode !== item.inode)) return undefined;
    return { size: before.size, ...(before.content && { content: before.content }), random: before.random ?? false };
  }

  /** Reads the wanted files in one archive. */
  private async take(): Promise<void> {
    const { cluster, at, out } = { ...this.reading };
    const byPath = new Map(this.wanted.map((w) => [w.path, w.item]));
    const archive = extract(rawNames);
    archive.on('entry', (header, body, next) => {
      const item = byPath.get(header.name);
      const done = async () => {
        if (!item || header.type !== 'file') throw new SourceError('VOLUME_FAILED', 'an archive holds what was not asked for');
        this.keep(item, await this.store(body as unknown as AsyncIterable<Uint8Array>, header.size ?? 0));
        await out.passed();
      };
      done().then(
        () => {
          next();
        },
        (error: unknown) => {
          archive.destroy(error as Error);
        },
      );
    });
    const pipe = new PassThrough({ highWaterMark: 4 << 20 });
    const names = async function* (wanted: readonly { readonly path: string }[]) {
      await Promise.resolve();
      for (let i = 0; i < wanted.length; i += 1000)
        yield Buffer.from(
          wanted
            .slice(i, i + 1000)
            .map((w) => `${w.path}\0`)
            .join(''),
          'latin1',
        );
    };
    const tar = ['tar', '-C', volumePath, '-c', '-f', '-', '--format=gnu', '--no-recursion', '--null', '--verbatim-files-from', '-T', '-'];
    const [, { code, complaint }] = await Promise.all([
      pipeline(pipe, archive as unknown as Writable),
      runInPod(cluster, at, tar, { stdin: names(this.wanted), stdout: pipe, stopped: out.ctx.stopped }),
    ]);
    if (code !== 0) this.complain(`its files can not be read: ${complaint}`);
  }

  private keep(item: VolumeItem, stored: StreamStored): void {
    this.read.set(item.hardId ?? item, { stored });
  }

  private async store(body: AsyncIterable<Uint8Array>, size: number): Promise<StreamStored> {
    if (size > smallBytes) return this.out.streamed(body);
    const parts: Uint8Array[] = [];
    for await (const part of body) parts.push(part);
    return this.out.content(Buffer.concat(parts));
  }

  private async folder(items: Map<string, VolumeItem>, own: TreeEntry, base: TreeEntry | undefined, path: string): Promise<TreeEntry> {
    const { out } = this;
    const builder = new FolderBuilder(this.reading.put);
    for (const item of inOrder(items)) {
      const entry = item.below ? await this.folder(item.below, entryOf(item), undefined, joinPath(path, item.name)) : this.file(item, path);
      builder.fill(builder.reserve(), packEntry(entry));
      out.progress.items++;
      if (entry.kind === 'file') out.progress.files++;
    }
    await out.passed();
    return { ...own, folder: builder.finish() };
  }

  private file(item: VolumeItem, path: string): TreeEntry {
    const entry = entryOf(item);
    if (item.kind !== 'file' || item.size === 0) return entry;
    const read = this.read.get(item) ?? (item.hardId === undefined ? undefined : this.read.get(item.hardId));
    if (!read) {
      this.out.warn('FILE_UNREAD', joinPath(path, item.name), 'it could not be read', true);
      return { ...entry, size: 0, unread: true };
    }
    const { size, content, random } = read.stored;
    return { ...entry, size, ...(size !== item.size && { torn: true }), ...(content && { content }), ...(random && { random }) };
  }
}

const inOrder = (folder: Map<string, VolumeItem>): VolumeItem[] => [...folder.values()].sort((a, b) => (a.name < b.name ? -1 : 1));

function entryOf({ name, kind, mode, uid, gid, mtimeNs, ctimeNs, inode, hardId, linkTarget }: VolumeItem): TreeEntry {
  return {
    name,
    kind,
    mode,
    uid,
    gid,
    mtimeNs,
    ctimeNs,
    inode,
    size: 0,
    ...(hardId !== undefined && { hardId }),
    ...(kind === 'link' && { linkTarget }),
  };
}

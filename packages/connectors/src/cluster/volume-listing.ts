import { Writable } from 'node:stream';
import { safeParts } from '@lithodex/core';
import type { ItemKind } from '@lithodex/engine';
import { SourceError } from '../source-error';

/** An item of a volume, as its listing tells. Names are byte strings. */
export interface VolumeItem {
  readonly name: string;
  readonly kind: ItemKind;
  readonly mode: number;
  readonly uid: number;
  readonly gid: number;
  readonly size: number;
  readonly mtimeNs: bigint;
  readonly ctimeNs: bigint;
  readonly inode: number;
  readonly hardId: string | undefined;
  readonly linkTarget: string;
  /** Of folders: what is in it, by name. */
  readonly below: Map<string, VolumeItem> | undefined;
}

/** Fields of `find -printf`, each ended by a zero, the path last. */
export const listingFormat = '%y\\0%m\\0%U\\0%G\\0%s\\0%T@\\0%C@\\0%i\\0%n\\0%D\\0%l\\0%P\\0';
const fields = 12;
const mostItems = 5_000_000;
const mostField = 70_000;
const kinds: Readonly<Record<string, ItemKind>> = { f: 'file', d: 'folder', l: 'link', p: 'fifo' };

/** Nanoseconds of a time like `1700000000.1234567890`. */
export function nanoseconds(text: string): bigint {
  const match = /^(-?)(\d{1,15})(?:\.(\d{1,12}))?$/.exec(text);
  if (!match) throw new SourceError('VOLUME_FAILED', 'its listing can not be read');
  const ns = BigInt(match[2]!) * 1_000_000_000n + BigInt((match[3] ?? '').slice(0, 9).padEnd(9, '0'));
  return match[1] ? -ns : ns;
}

/** Takes the listing of a volume as it comes, and makes it a tree. */
export class VolumeListing extends Writable {
  readonly top = new Map<string, VolumeItem>();
  /** Sockets and devices, which nobody can bring back by their content. */
  skipped = 0;
  items = 0;
  private rest = '';
  private row: string[] = [];

  override _write(data: Buffer, _: string, done: (error?: Error) => void): void {
    try {
      const parts = (this.rest + data.toString('latin1')).split('\0');
      this.rest = parts.pop()!;
      if (this.rest.length > mostField) throw new SourceError('VOLUME_FAILED', 'its listing can not be read');
      for (const part of parts) {
        this.row.push(part);
        if (this.row.length === fields) {
          this.take(this.row);
          this.row = [];
        }
      }
      done();
    } catch (error) {
      done(error as Error);
    }
  }

  override _final(done: (error?: Error) => void): void {
    done(this.rest === '' && this.row.length === 0 ? undefined : new SourceError('VOLUME_FAILED', 'its listing ends in the middle'));
  }

  private take(row: readonly string[]): void {
    const [type, mode, uid, gid, size, mtime, ctime, inode, links, device, linkTarget, path] = row as [
      string,
      string,
      string,
      string,
      string,
      string,
      string,
      string,
      string,
      string,
      string,
      string,
    ];
    const parts = safeParts(path);
    if (!parts || parts.length === 0) throw new SourceError('VOLUME_FAILED', 'its listing names an impossible path');
    // a file system keeps this for itself
    if (parts[0] === 'lost+found') return;
    const kind = kinds[type];
    if (!kind) {
      this.skipped++;
      return;
    }
    if (++this.items > mostItems) throw new SourceError('VOLUME_FAILED', `it holds more than ${mostItems} items`);
    let folder: Map<string, VolumeItem> | undefined = this.top;
    for (const part of parts.slice(0, -1)) folder = folder?.get(part)?.below;
    if (!folder) throw new SourceError('VOLUME_FAILED', 'its listing names an item before its folder');
    const number = (text: string, base = 10) => {
      const read = Number.parseInt(text, base);
      if (!Number.isSafeInteger(read) || read < 0) throw new SourceError('VOLUME_FAILED', 'its listing can not be read');
      return read;
    };
    const name = parts.at(-1)!;
    folder.set(name, {
      name,
      kind,
      mode: number(mode, 8),
      uid: number(uid),
      gid: number(gid),
      size: kind === 'file' ? number(size) : 0,
      mtimeNs: nanoseconds(mtime),
      ctimeNs: nanoseconds(ctime),
      inode: number(inode),
      hardId: kind === 'file' && number(links) > 1 ? `${device}:${inode}` : undefined,
      linkTarget: kind === 'link' ? linkTarget : '',
      below: kind === 'folder' ? new Map() : undefined,
    });
  }
}

import { bytesOfText, joinPath } from '@lithodex/core';
import { topEntry, type StreamStored, type TreeEntry } from '@lithodex/engine';
import type { ShareFrom, SharePoint } from '@lithodex/kinds';
import { BaseFolder } from '../base-folder';
import type { PointWriting } from '../capture-store';
import type { CaptureContext, PointContent } from '../connector';
import { ItemWriting } from '../item-writing';
import { OpenFolder } from '../open-folder';
import { SlidingWork } from '../sliding-work';
import { isSourceError, SourceError } from '../source-error';
import { SessionPool } from './session-pool';
import { endsAll, sameFacts, shareEntry, textOf } from './share-items';
import type { ListedFile } from './smb-listing';
import type { SmbSession } from './smb-session';

/** New chunks that are made room for. */
const expectedChunks = 131_072;
/** So many files are on their way at once. */
const atOnce = 4;
/** Larger files are stored as they come. */
const heldBytes = 4 << 20;
/** A file that changes while it is read is begun again so often. */
const mostTimes = 3;
/** Folders within each other: links that lead upwards have no end. */
export const mostDepth = 200;
/** Times are told to the second: what was written so shortly before a point may have been written again since, ms. */
const unsureMs = 2500;

/** Takes the files of a share: those that are as the point before has them are not read. Throws SourceError. */
export function captureShare(ctx: CaptureContext, { server, share }: ShareFrom): Promise<PointContent> {
  const writing = ctx.store.begin(expectedChunks, ctx.fresh);
  return writing.during(async () => {
    const pool = new SessionPool(server, share);
    try {
      return await new ShareCapture(ctx, writing, pool, share, server.accessLists).run();
    } finally {
      await pool.close();
    }
  });
}

class ShareCapture {
  private readonly out: ItemWriting;
  private readonly work = new SlidingWork(atOnce);
  private folders = 0;

  constructor(
    private readonly ctx: CaptureContext,
    private readonly writing: PointWriting,
    private readonly pool: SessionPool,
    private readonly share: string,
    private readonly accessLists: boolean,
  ) {
    this.out = new ItemWriting(ctx, writing);
  }

  async run(): Promise<PointContent> {
    const { ctx, out, writing, share, accessLists } = this;
    let top: TreeEntry | undefined;
    const self = shareEntry({ name: '', isFolder: true, size: 0, mtime: 0, attributes: '' });
    const base = new BaseFolder(ctx.store.trees, ctx.base && topEntry(ctx.base));
    const root = new OpenFolder(writing.put, self, '', base, false, (entry) => (top = entry));
    await this.pool.use((session) => this.walk(session, root, 0));
    root.close();
    await this.work.idle();
    await out.passed();
    const counts = await writing.finish();
    const { files } = out.progress;
    const facts: SharePoint = { kind: 'share', share, folders: this.folders, files, bytes: top!.folder?.bytes ?? 0, accessLists };
    return out.pointOf(top!, counts, { kind: 'share', version: 1, facts, state: {} });
  }

  private async walk(session: SmbSession, open: OpenFolder, depth: number): Promise<void> {
    const { out } = this;
    for (const file of await this.listed(session, open)) {
      out.goOn();
      const name = bytesOfText(file.name);
      const path = joinPath(open.path, name);
      if (out.leftOut(path, file.isFolder)) continue;
      const before = await open.base.of(name);
      const fill = open.reserve();
      if (!file.isFolder) {
        await this.file(file, path, before, fill);
        continue;
      }
      this.folders++;
      out.progress.items++;
      const access = this.accessLists ? await this.access(session, path) : undefined;
      const base = new BaseFolder(this.ctx.store.trees, before?.kind === 'folder' ? before : undefined);
      const self = shareEntry(file, access && { access });
      const child = new OpenFolder(this.writing.put, self, path, base, false, fill);
      if (depth < mostDepth) await this.walk(session, child, depth + 1);
      else out.warn('FOLDER_UNREAD', path, 'it lies too deep, as where a link leads upwards', true);
      child.close();
    }
    await out.passed();
  }

  /** What a folder holds, by name as a tree holds it. One that can not be listed is told, and stays empty. */
  private async listed(session: SmbSession, { path }: OpenFolder): Promise<readonly ListedFile[]> {
    try {
      const files = await session.list(textOf(path));
      return files
        .map((file) => ({ file, name: bytesOfText(file.name) }))
        .sort((a, b) => (a.name < b.name ? -1 : 1))
        .map((f) => f.file);
    } catch (error) {
      if (endsAll(error)) throw error;
      // without it there is nothing at all
      if (path === '') throw isSourceError(error, 'FILE_SHUT_THERE') ? new SourceError('SHARE_REFUSED', this.share) : error;
      this.out.warn('FOLDER_UNREAD', path, (error as Error).message, true);
      return [];
    }
  }

  private async access(session: SmbSession, path: string) {
    try {
      return await session.access(textOf(path));
    } catch (error) {
      if (endsAll(error)) throw error;
      this.out.warn('FACTS_UNREAD', path, `who may do what with it can not be read: ${(error as Error).message}`, false);
      return undefined;
    }
  }

  private async file(
    file: ListedFile,
    path: string,
    before: TreeEntry | undefined,
    fill: (entry: TreeEntry | null) => void,
  ): Promise<void> {
    const same = this.asBefore(file, before);
    if (same && !this.accessLists) {
      const now = shareEntry(file);
      this.count(file.size);
      fill(sameFacts(same, now) ? same : { ...same, mode: now.mode, attributes: now.attributes! });
      return;
    }
    await this.work.add(async () => {
      fill(await this.pool.use((session) => this.take(session, file, path, before, same)));
    });
  }

  /** The entry of the point before, where the file is as it has it. */
  private asBefore({ size, mtime }: ListedFile, before: TreeEntry | undefined): TreeEntry | undefined {
    if (before?.kind !== 'file' || before.unread || before.size !== size || before.mtimeNs !== BigInt(mtime) * 1_000_000n) return undefined;
    return mtime > this.ctx.base!.moment - unsureMs ? undefined : before;
  }

  private count(bytes: number, read = false): void {
    const { progress } = this.out;
    progress.items++;
    progress.files++;
    if (!read) progress.bytes += bytes;
  }

  private async take(
    session: SmbSession,
    listed: ListedFile,
    path: string,
    before: TreeEntry | undefined,
    same: TreeEntry | undefined,
  ): Promise<TreeEntry | null> {
    const { out } = this;
    out.goOn();
    try {
      const access = this.accessLists ? await this.access(session, path) : undefined;
      if (same) {
        this.count(listed.size);
        const now = shareEntry(listed, access && { access });
        return sameFacts(same, now) ? same : { ...same, mode: now.mode, attributes: now.attributes! };
      }
      const { file, stored } = await this.content(session, listed, path);
      this.count(file.size, true);
      const { size, content, random } = stored;
      return { ...shareEntry(file, access && { access }), size, ...(content && { content }), ...(random && { random }) };
    } catch (error) {
      if (endsAll(error)) throw error;
      // it was removed since it was listed
      if (isSourceError(error, 'FILE_GONE_THERE')) return null;
      out.warn('FILE_UNREAD', path, (error as Error).message, true);
      this.count(0, true);
      return { ...(before?.kind === 'file' ? before : shareEntry({ ...listed, size: 0 })), unread: true };
    }
  }

  /** Reads a file, again where it changed meanwhile. */
  private async content(session: SmbSession, listed: ListedFile, path: string): Promise<{ file: ListedFile; stored: StreamStored }> {
    const name = textOf(path);
    for (let [file, time] = [listed, 1]; ; time++) {
      const stored = file.size > heldBytes ? await this.out.streamed(session.read(name)) : await this.whole(session, name);
      const now = await session.look(name);
      if (!now || now.isFolder) throw new SourceError('FILE_GONE_THERE', name);
      if (now.size === stored.size && now.mtime === file.mtime) return { file: now, stored };
      if (time === mostTimes) {
        this.out.warn('FILE_CHANGED', path, 'it was written to while it was read, so that its parts may be of different times', false);
        return { file: now, stored };
      }
      file = now;
    }
  }

  private async whole(session: SmbSession, name: string): Promise<StreamStored> {
    const pieces: Uint8Array[] = [];
    let held = 0;
    for await (const piece of session.read(name)) {
      pieces.push(piece);
      held += piece.length;
      // it grew since it was listed
      if (held > 16 * heldBytes) throw new SourceError('SHARE_FAILED', `${name}: it grows faster than it is read`);
    }
    return this.out.content(Buffer.concat(pieces));
  }
}

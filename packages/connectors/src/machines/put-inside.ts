import { createHash } from 'node:crypto';
import { absoluteBelow, besideName, countOf, decideConflict, type RestoreAction } from '@lithodex/core';
import { EngineError, type TreeEntry } from '@lithodex/engine';
import type { MachineTo } from '@lithodex/kinds';
import type { RestoreContext, RestoreOutcome, RestorePick } from '../connector';
import { fileContent } from '../file-content';
import type { FoundItem } from '../readable-tree';
import { SourceError } from '../source-error';
import { InsideClient, insideText, type InsideItem, type InsideProperties } from './inside-client';
import { platformClient } from './kept-clients';

type InsideDestination = Extract<MachineTo['destination'], { to: 'inside' }>;

/** Bytes sent at once. */
const pieceBytes = 4 << 20;

const propertiesOf = ({ mode, uid, gid, mtimeNs }: TreeEntry): InsideProperties => ({
  mode,
  uid,
  gid,
  mtime: Number(mtimeNs / 1_000_000n),
});
/** What failed, for the item alone; what concerns the machine as a whole ends the task. */
const ofOneItem = ['PLATFORM_FAILED', 'NOT_AS_STORED'];

/** Puts picked items into a machine that runs. What was written is summed up inside and compared. */
export async function putInside(
  ctx: RestoreContext,
  picks: readonly RestorePick[],
  { platform, destination }: MachineTo & { readonly destination: InsideDestination },
): Promise<RestoreOutcome> {
  ctx.phase(ctx.trial ? 'trying' : 'restoring');
  const inside = new InsideClient(platformClient(platform), destination.machine, destination.account);
  const putting = new Putting(ctx, inside, destination);
  for (const pick of picks) {
    const { tree, entry } = await pick.find();
    await putting.item(tree, entry, absoluteBelow(pick.base, pick.to));
  }
  const told = `${countOf(putting.items, 'item')} ${ctx.trial ? 'looked at, nothing written' : 'done, every file summed up inside and compared'}`;
  return { items: putting.items, summary: told };
}

class Putting {
  items = 0;
  private uploads = 0;
  private readonly listed = new Map<string, Promise<InsideItem[] | null>>();

  constructor(
    private readonly ctx: RestoreContext,
    private readonly inside: InsideClient,
    private readonly destination: InsideDestination,
  ) {}

  /** Puts an item at an absolute path (byte string), making folders above it that are missing. */
  async item(tree: FoundItem['tree'], entry: TreeEntry, path: string): Promise<void> {
    const { folder, name } = apart(path);
    if (!this.ctx.trial && name !== '') await this.makeAbove(folder);
    await this.put(tree, entry, path);
  }

  private async makeAbove(folder: string): Promise<void> {
    if (folder === '/' || (await this.list(folder)) !== null) return;
    await this.makeAbove(apart(folder).folder);
    await this.inside.makeFolder(insideText(folder), { mode: 0o755, uid: 0, gid: 0, mtime: Date.now() });
    this.listed.set(folder, Promise.resolve([]));
    this.listed.delete(apart(folder).folder);
  }

  private list(folder: string): Promise<InsideItem[] | null> {
    const known = this.listed.get(folder) ?? this.inside.list(insideText(folder));
    this.listed.set(folder, known);
    return known;
  }

  private async put(tree: FoundItem['tree'], entry: TreeEntry, path: string): Promise<void> {
    if (this.ctx.stopped()) throw new EngineError('STOPPED');
    const report = (action: RestoreAction | 'failed', remark = '', bytes = 0) => {
      this.items++;
      this.ctx.done({ path: path.slice(1), action, kind: entry.kind, bytes, remark });
    };
    try {
      if (entry.unread) report('failed', 'it could not be read inside the disk');
      else if (entry.kind === 'folder') await this.folder(tree, entry, path, report);
      else if (entry.kind === 'file' || entry.kind === 'link') await this.one(tree, entry, path, report);
      else report('failed', 'only folders, files and links can be put into a machine that runs');
    } catch (error) {
      if (error instanceof SourceError ? !ofOneItem.includes(error.code) : error instanceof EngineError && error.code === 'STOPPED')
        throw error;
      report('failed', error instanceof Error ? error.message : String(error));
    }
    await this.ctx.drain();
  }

  private async existing(path: string): Promise<InsideItem | undefined> {
    const { folder, name } = apart(path);
    const wanted = insideText(name);
    return (await this.list(folder))?.find((i) => i.name === wanted);
  }

  private async folder(tree: FoundItem['tree'], entry: TreeEntry, path: string, report: Report): Promise<void> {
    const there = path === '/' || path === '' ? { kind: 'folder' as const } : await this.existing(path);
    if (there && there.kind !== 'folder') {
      report('leave', 'something that is no folder has this name');
      return;
    }
    if (!there && !this.ctx.trial) {
      await this.inside.makeFolder(insideText(path), propertiesOf(entry));
      this.listed.set(path, Promise.resolve([]));
    }
    report(there ? 'merge' : 'write');
    if (entry.folder)
      for await (const piece of tree.trees.pieces(entry.folder.node))
        for (const child of piece) await this.put(tree, child, absoluteBelow(path, child.name));
    this.listed.delete(path);
  }

  private async one(tree: FoundItem['tree'], entry: TreeEntry, path: string, report: Report): Promise<void> {
    const { rule } = this.destination;
    const there = await this.existing(path);
    const sum = there?.kind === 'file' && entry.kind === 'file' && there.size === entry.size ? await sumOf(tree, entry) : undefined;
    const identical = sum !== undefined && (await this.inside.sum(insideText(path))) === sum;
    const known = there && { isFolder: there.kind === 'folder', mtimeNs: BigInt(there.mtime) * 1_000_000n, identical };
    const action = decideConflict(rule, { isFolder: false, mtimeNs: entry.mtimeNs }, known);
    const to = action === 'beside' ? await this.besides(path) : path;
    const remark = action === 'beside' ? insideText(apart(to).name) : '';
    if (action !== 'leave' && action !== 'same' && !this.ctx.trial) {
      if (entry.kind === 'link') await this.inside.makeLink(insideText(to), insideText(entry.linkTarget ?? ''), propertiesOf(entry));
      else await this.send(tree, entry, to);
    }
    report(action, remark, entry.size);
  }

  private async besides(path: string): Promise<string> {
    const { folder, name } = apart(path);
    const taken = new Set((await this.list(folder))?.map((i) => i.name));
    for (let attempt = 1; ; attempt++) {
      const free = besideName(name, this.destination.stamp, attempt);
      if (!taken.has(insideText(free))) return absoluteBelow(folder, free);
    }
  }

  private async send(tree: FoundItem['tree'], entry: TreeEntry, path: string): Promise<void> {
    const upload = `${this.ctx.taskId}-${this.uploads++}`;
    const at = insideText(path);
    const hash = createHash('sha256');
    let waiting: Buffer[] = [];
    let bytes = 0;
    for await (const part of fileContent(tree, entry)) {
      if (this.ctx.stopped()) throw new EngineError('STOPPED');
      hash.update(part);
      waiting.push(part);
      bytes += part.length;
      if (bytes < pieceBytes) continue;
      await this.inside.write(at, upload, Buffer.concat(waiting), null);
      this.ctx.moved(bytes);
      [waiting, bytes] = [[], 0];
    }
    await this.inside.write(at, upload, Buffer.concat(waiting), propertiesOf(entry));
    this.ctx.moved(bytes);
    if ((await this.inside.sum(at)) !== hash.digest('hex')) throw new SourceError('NOT_AS_STORED', 'the sum inside is another one');
  }
}

type Report = (action: RestoreAction | 'failed', remark?: string, bytes?: number) => void;

function apart(path: string): { folder: string; name: string } {
  const at = path.lastIndexOf('/');
  return { folder: path.slice(0, at) || '/', name: path.slice(at + 1) };
}

async function sumOf(tree: FoundItem['tree'], entry: TreeEntry): Promise<string> {
  const hash = createHash('sha256');
  for await (const part of fileContent(tree, entry)) hash.update(part);
  return hash.digest('hex');
}

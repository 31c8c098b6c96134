import { createHash } from 'node:crypto';
import { besideName, bytesOfText, countOf, decideConflict, joinPath, type RestoreAction } from '@lithodex/core';
import { EngineError, type TreeEntry } from '@lithodex/engine';
import type { FileServer, ShareDestination, ShareTo } from '@lithodex/kinds';
import type { RestoreContext, RestoreOutcome, RestorePick } from '../connector';
import { fileContent } from '../file-content';
import { everythingBelow, type ReadableTree } from '../readable-tree';
import { SlidingWork } from '../sliding-work';
import { SourceError } from '../source-error';
import { setAccess } from './set-access';
import { SessionPool } from './session-pool';
import { endsAll, shareItemFacts, textOf } from './share-items';
import type { ListedFile } from './smb-listing';
import type { SmbSession } from './smb-session';

const atOnce = 4;
const mostTwins = 100;
/** Folders of which it is remembered what is in them. */
const mostFolders = 5000;

/** Brings picked files and folders back to a share. A trial looks what would happen and writes nothing. Throws SourceError, STOPPED. */
export async function restoreShare(
  ctx: RestoreContext,
  picks: readonly RestorePick[],
  { server, destination }: ShareTo,
): Promise<RestoreOutcome> {
  const pool = new SessionPool(server, destination.share);
  try {
    return await new ShareRestore(ctx, pool, server, destination).run(picks);
  } finally {
    await pool.close();
  }
}

interface Item {
  readonly path: string;
  readonly entry: TreeEntry;
  readonly tree: ReadableTree;
}

class ShareRestore {
  private readonly acts = new Map<RestoreAction | 'failed', number>();
  private readonly known = new Map<string, Promise<Map<string, ListedFile>>>();
  private readonly made = new Map<string, Promise<void>>();
  /** Folders whose times are set when what is in them is written. */
  private readonly folders: { readonly to: string; readonly entry: TreeEntry }[] = [];

  constructor(
    private readonly ctx: RestoreContext,
    private readonly pool: SessionPool,
    private readonly server: FileServer,
    private readonly to: ShareDestination,
  ) {}

  private goOn(): void {
    if (this.ctx.stopped()) throw new EngineError('STOPPED');
  }

  async run(picks: readonly RestorePick[]): Promise<RestoreOutcome> {
    const { ctx, to } = this;
    ctx.phase('bringing back files');
    const work = new SlidingWork(atOnce);
    const seen = new Set<string>();
    for (const pick of picks) {
      const point = await pick.open();
      const { tree, entry } = await pick.find();
      for await (const item of everythingBelow(tree, entry, pick.path)) {
        // a folder and something in it may be picked both
        const known = `${point.root.taskId} ${item.path}`;
        if (seen.has(known) || (item.entry.kind !== 'file' && item.entry.kind !== 'folder')) continue;
        seen.add(known);
        const one = { ...item, tree };
        // a folder is there before what is in it
        if (item.entry.kind === 'folder') await this.bringBack(one);
        else await work.add(() => this.bringBack(one));
      }
    }
    await work.idle();
    await this.setTimes();
    const count = (action: RestoreAction) => this.acts.get(action) ?? 0;
    const parts = [
      `${countOf(count('write') + count('beside') + count('replace'), 'item')} brought back to ${to.share}, each read again`,
      ...(count('same') + count('merge') ? [`${count('same') + count('merge')} there already`] : []),
      ...(count('leave') ? [`${count('leave')} left as they are`] : []),
      ...(count('replace') ? [`${count('replace')} of them replaced what was there`] : []),
    ];
    const items = [...this.acts.values()].reduce((sum, n) => sum + n, 0);
    return { items, summary: ctx.trial ? `tried without writing: ${parts.join(', ').replace(', each read again', '')}` : parts.join(', ') };
  }

  private async bringBack(item: Item): Promise<void> {
    const { ctx } = this;
    this.goOn();
    const tell = async (action: RestoreAction | 'failed', remark: string) => {
      this.acts.set(action, (this.acts.get(action) ?? 0) + 1);
      ctx.done({ path: item.path, action, kind: item.entry.kind, bytes: item.entry.size, remark });
      await ctx.drain();
    };
    try {
      const { action, remark } = await this.pool.use((session) => this.write(session, item));
      await tell(action, remark);
    } catch (error) {
      if (endsAll(error) || (error as SourceError).code === 'NO_ROOM_THERE') throw error;
      await tell('failed', (error as Error).message);
    }
  }

  /** Where an item goes, byte string below the share. */
  private placeOf(path: string): string {
    return this.to.folder === '' ? path : joinPath(bytesOfText(this.to.folder), path);
  }

  /** What a folder there holds, by its name in small letters: the server knows no difference. */
  private holds(session: SmbSession, folder: string): Promise<Map<string, ListedFile>> {
    let known = this.known.get(folder);
    if (!known) {
      known = session.list(textOf(folder)).then(
        (files) => new Map(files.map((f) => [f.name.toLowerCase(), f])),
        (error: unknown) => {
          if (error instanceof SourceError && error.code === 'FILE_GONE_THERE') return new Map<string, ListedFile>();
          this.known.delete(folder);
          throw error;
        },
      );
      this.known.set(folder, known);
      if (this.known.size > mostFolders) this.known.delete(this.known.keys().next().value!);
    }
    return known;
  }

  private async makeFolders(session: SmbSession, folder: string): Promise<void> {
    const parts = folder.split('/').filter(Boolean);
    for (let i = 1; i <= parts.length; i++) {
      const one = parts.slice(0, i).join('/');
      let made = this.made.get(one);
      if (!made) {
        made = session.makeFolder(textOf(one));
        this.made.set(one, made);
      }
      await made;
    }
  }

  private async write(session: SmbSession, item: Item): Promise<{ readonly action: RestoreAction; readonly remark: string }> {
    const { entry, tree } = item;
    if (entry.unread && entry.kind === 'file')
      throw new SourceError('SHARE_FAILED', 'it is not in this point: it could not be read when the point was taken');
    const place = this.placeOf(item.path);
    const cut = place.lastIndexOf('/');
    const [folder, name] = [cut < 0 ? '' : place.slice(0, cut), place.slice(cut + 1)];
    const taken = await this.holds(session, folder);
    const there = taken.get(textOf(name).toLowerCase());
    const isFolder = entry.kind === 'folder';
    const action = decideConflict(
      this.to.exists,
      { isFolder, mtimeNs: entry.mtimeNs },
      there && {
        isFolder: there.isFolder,
        mtimeNs: BigInt(there.mtime) * 1_000_000n,
        identical: !isFolder && !there.isFolder && (await this.isSame(session, textOf(place), there, entry, tree)),
      },
    );
    if (action === 'leave' || action === 'same' || action === 'merge') return { action, remark: '' };
    const own = action === 'beside' ? this.freeName(taken, name) : name;
    const goesTo = joinPath(folder, own);
    // of several that would go to one place the first is there for the others
    taken.set(textOf(own).toLowerCase(), asListed(textOf(own), entry));
    const remark = action === 'beside' ? textOf(goesTo) : '';
    if (this.ctx.trial) return { action, remark };
    await this.makeFolders(session, isFolder ? goesTo : folder);
    if (isFolder) this.folders.push({ to: goesTo, entry });
    else await this.writeFile(session, goesTo, item);
    const left = await this.facts(session, goesTo, entry);
    return { action, remark: [remark, left].filter(Boolean).join('; ') };
  }

  private async isSame(session: SmbSession, place: string, there: ListedFile, entry: TreeEntry, tree: ReadableTree): Promise<boolean> {
    if (there.size !== entry.size) return false;
    return (await sumOf(fileContent(tree, entry))) === (await sumOf(session.read(place)));
  }

  private freeName(taken: ReadonlyMap<string, ListedFile>, name: string): string {
    for (let attempt = 1; attempt <= mostTwins; attempt++) {
      const own = besideName(name, this.to.stamp, attempt);
      if (!taken.has(textOf(own).toLowerCase())) return own;
    }
    throw new SourceError('SHARE_FAILED', 'there are too many beside it already');
  }

  /** Writes a file under a name of ours, reads it again, and only then puts it in its place: what is there stays whole until then. */
  private async writeFile(session: SmbSession, goesTo: string, { entry, tree, path }: Item): Promise<void> {
    const { ctx } = this;
    const cut = goesTo.lastIndexOf('/') + 1;
    const mark = createHash('sha256').update(`${ctx.taskId} ${path}`).digest('hex').slice(0, 16);
    const ours = textOf(`${goesTo.slice(0, cut)}~lithodex-${mark}`);
    const sum = createHash('sha256');
    const goOn = () => {
      this.goOn();
    };
    const pieces = async function* () {
      for await (const piece of fileContent(tree, entry)) {
        goOn();
        sum.update(piece);
        yield piece;
        ctx.moved(piece.length);
      }
    };
    try {
      await session.write(ours, pieces());
      if ((await sumOf(session.read(ours))) !== sum.digest('hex')) throw new SourceError('NOT_AS_STORED', textOf(goesTo));
      await session.setTime(ours, Number(entry.mtimeNs / 1_000_000n));
      await session.replace(textOf(goesTo), ours);
    } catch (error) {
      if (!session.isDead) await session.remove(ours).catch(() => undefined);
      throw error;
    }
  }

  /** Sets what was noted with an item. Returns what could not be set, in words. */
  private async facts(session: SmbSession, goesTo: string, entry: TreeEntry): Promise<string> {
    const facts = shareItemFacts(entry);
    if (!facts) return '';
    const left: string[] = [];
    const letters = facts.attributes.replace(/[^RHSA]/g, '');
    const attempt = async (what: string, act: () => Promise<string | undefined>) => {
      try {
        const rest = await act();
        if (rest) left.push(rest);
      } catch (error) {
        if (endsAll(error)) throw error;
        left.push(`${what} could not be set`);
      }
    };
    const { access } = facts;
    if (access) await attempt('who may do what with it', () => setAccess(this.server, this.to.share, textOf(goesTo), access));
    if (letters !== '' && letters !== 'A')
      await attempt('its attributes', async () => {
        await session.setAttributes(textOf(goesTo), letters);
        return undefined;
      });
    return left.join(', ');
  }

  private async setTimes(): Promise<void> {
    for (const { to, entry } of this.folders.reverse()) {
      this.goOn();
      await this.pool
        .use((session) => session.setTime(textOf(to), Number(entry.mtimeNs / 1_000_000n)))
        .catch((error: unknown) => {
          if (endsAll(error)) throw error;
        });
    }
  }
}

const asListed = (name: string, { kind, size, mtimeNs }: TreeEntry): ListedFile => ({
  name,
  isFolder: kind === 'folder',
  size,
  mtime: Number(mtimeNs / 1_000_000n),
  attributes: '',
});

async function sumOf(pieces: AsyncIterable<Uint8Array>): Promise<string> {
  const hash = createHash('sha256');
  for await (const piece of pieces) hash.update(piece);
  return hash.digest('hex');
}

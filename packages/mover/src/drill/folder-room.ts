import fs from 'node:fs';
import { createHash } from 'node:crypto';
import type { DrillCheck, DrillResult } from '@lithodex/contract';
import { compareItem, connectorOf, HostLimits, LiveTree, treeOf } from '@lithodex/connectors';
import { bytesOfText, countOf, escapePath, formatBytes, joinPath, unescapePath } from '@lithodex/core';
import { closeFile, EngineError, inFolder, type TreeEntry } from '@lithodex/engine';
import { DrillError } from './drill-error';
import type { Drilled, DrillRoom } from './drill-room';

const mostText = 64 << 20;
/** What a drill leaves free on the host of its mover. */
const spareBytes = 1e9;

/** A folder of the mover's own in which a point lies as files. */
export class FolderRoom implements DrillRoom {
  readonly words = 'a folder of the mover';
  private readonly limits: HostLimits;

  constructor(
    private readonly drilled: Drilled,
    private readonly folder: string,
    /** Bytes that come back. */
    private readonly expected: number,
  ) {
    const own = [bytesOfText(folder)];
    this.limits = new HostLimits({ read: own, write: own, backOnly: [], kept: [] });
  }

  clear(): Promise<void> {
    return this.remove();
  }

  async bringBack(): Promise<void> {
    fs.mkdirSync(this.folder, { recursive: true, mode: 0o700 });
    const { bavail, bsize } = fs.statfsSync(this.folder);
    if (bavail * bsize < this.expected + spareBytes)
      throw new DrillError(`${formatBytes(bavail * bsize)} are free on the mover, ${formatBytes(this.expected)} come back`);
    const { ctx, pick } = this.drilled;
    const files = await connectorOf('files');
    const base = bytesOfText(fs.realpathSync(this.folder));
    await files.restore({ ...ctx, limits: this.limits }, [{ ...pick, base }], { kind: 'files', rule: 'leave', stamp: 'drill' });
  }

  async looks(): Promise<DrillResult[]> {
    const tree = LiveTree.open(bytesOfText(this.folder), null, this.limits);
    try {
      const seen = { files: 0, unread: 0, differ: 0, first: '' };
      await this.compare(tree, this.drilled.point.top, '', seen);
      const { files, unread, differ, first } = seen;
      const left = unread ? `; ${countOf(unread, 'item')} could not be read when the point was taken` : '';
      return [
        differ
          ? { what: 'Every file is what was stored', found: `${countOf(differ, 'file')} differ, first ${escapePath(first)}`, passed: false }
          : { what: 'Every file is what was stored', found: `${countOf(files, 'file')} read again${left}`, passed: true },
      ];
    } finally {
      tree.close();
    }
  }

  private async compare(
    tree: LiveTree,
    entry: TreeEntry,
    at: string,
    seen: { files: number; unread: number; differ: number; first: string },
  ): Promise<void> {
    const { ctx, point } = this.drilled;
    if (!entry.folder) return;
    for await (const piece of point.store.trees.pieces(entry.folder.node))
      for (const below of piece) {
        if (ctx.stopped()) throw new EngineError('STOPPED');
        const itsPath = joinPath(at, below.name);
        if (below.unread) seen.unread++;
        else if (below.kind === 'folder') await this.compare(tree, below, itsPath, seen);
        else if (below.kind === 'file') {
          seen.files++;
          const { sameContent } = await compareItem(tree, itsPath, below, treeOf(point.store));
          if (sameContent !== true && seen.differ++ === 0) seen.first = itsPath;
        }
      }
  }

  look(check: DrillCheck): Promise<DrillResult | undefined> {
    if (check.check === 'file') return Promise.resolve(this.file(check));
    if (check.check === 'count') return Promise.resolve(this.count(check));
    return Promise.resolve(undefined);
  }

  /** Opens what lies at a path without following links; undefined where nothing does. */
  private within<T>(at: string, use: (tree: LiveTree, path: string) => T): T | undefined {
    const tree = LiveTree.open(bytesOfText(this.folder), null, this.limits);
    try {
      return use(tree, unescapePath(at));
    } catch {
      return undefined;
    } finally {
      tree.close();
    }
  }

  private file({ path: at, sum, holds }: Extract<DrillCheck, { check: 'file' }>): DrillResult {
    const what = `${at} is there${sum ? ` with the sum ${sum.slice(0, 12)}…` : ''}${holds ? `, with "${holds}" in it` : ''}`;
    const seen = this.within(at, (tree, itsPath) => {
      const fd = tree.openFile(itsPath, fs.constants.O_RDONLY | fs.constants.O_NONBLOCK);
      try {
        return fs.fstatSync(fd).isFile() ? readWhole(fd, holds) : undefined;
      } finally {
        closeFile(fd);
      }
    });
    if (!seen) return { what, found: 'it is not there', passed: false };
    if (sum && seen.sum !== sum) return { what, found: `its sum is ${seen.sum}`, passed: false };
    if (holds && !seen.holds) return { what, found: 'the text is not in it', passed: false };
    return { what, found: `${seen.bytes} bytes`, passed: true };
  }

  private count({ path: at, least }: Extract<DrillCheck, { check: 'count' }>): DrillResult {
    const what = `At least ${countOf(least, 'file')}${at ? ` below ${at}` : ''}`;
    const files = this.within(at, (tree, itsPath) => countFiles(tree, itsPath)) ?? 0;
    return { what, found: countOf(files, 'file'), passed: files >= least };
  }

  told(): Record<string, string> {
    return { LITHODEX_DRILL_FOLDER: this.folder };
  }

  remove(): Promise<void> {
    fs.rmSync(this.folder, { recursive: true, force: true });
    return Promise.resolve();
  }
}

/** Files below a folder, links not followed. */
function countFiles(tree: LiveTree, at: string): number {
  const { fd, names } = tree.list(at);
  const folders: string[] = [];
  let files = 0;
  try {
    for (const name of names) {
      const stat = fs.lstatSync(inFolder(fd, name));
      if (stat.isDirectory()) folders.push(name);
      else if (stat.isFile()) files++;
    }
  } finally {
    closeFile(fd);
  }
  return folders.reduce((sum, name) => sum + countFiles(tree, joinPath(at, name)), files);
}

function readWhole(fd: number, holds: string): { readonly sum: string; readonly bytes: number; readonly holds: boolean } {
  const hash = createHash('sha256');
  const wanted = Buffer.from(holds);
  let tail = Buffer.alloc(0);
  let found = false;
  let bytes = 0;
  const piece = Buffer.allocUnsafe(1 << 20);
  for (let read = fs.readSync(fd, piece); read > 0; read = fs.readSync(fd, piece)) {
    const data = piece.subarray(0, read);
    hash.update(data);
    bytes += read;
    if (wanted.length === 0 || found || bytes > mostText) continue;
    const window = Buffer.concat([tail, data]);
    found = window.includes(wanted);
    tail = Buffer.from(window.subarray(Math.max(0, window.length - wanted.length + 1)));
  }
  return { sum: hash.digest('hex'), bytes, holds: found };
}

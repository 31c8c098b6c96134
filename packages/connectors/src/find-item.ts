import { joinPath, mailStoreFolder, mailStoreOn } from '@lithodex/core';
import { EngineError } from '@lithodex/engine';
import { KindName } from '@lithodex/kinds';
import type { OpenedInside, OpenPoint } from './connector';
import { connectorOf } from './connectors';
import type { InsideTree } from './inside/inside-tree';
import { findWithParents, treeOf, type FoundItem } from './readable-tree';

/** Trees inside items that were opened last: opening one reads where everything on a disk lies. */
export class OpenedTrees {
  private readonly kept = new Map<string, Promise<OpenedInside | undefined>>();

  constructor(private readonly most = 2) {}

  /** The tree a path leads to or into; undefined where it leads to none. */
  async open(point: OpenPoint, path: string): Promise<OpenedInside | undefined> {
    const mail = mailStoreOn(path);
    const inStore = mail && (await this.openStore(point, mail.store));
    if (inStore) return { tree: inStore, rest: mail.rest };
    const kind = KindName.safeParse(point.root.content.kind).data;
    const connector = kind && (await connectorOf(kind));
    if (!connector?.open) return undefined;
    for (const [key, opened] of this.kept) {
      const [taskId, item = ''] = key.split('\n');
      if (taskId !== point.root.taskId || mailStoreOn(item) || !(path === item || path.startsWith(`${item}/`))) continue;
      this.kept.delete(key);
      this.kept.set(key, opened);
      const known = await opened;
      return known && { tree: known.tree, rest: path.slice(item.length + 1) };
    }
    const opening = connector.open(point, path);
    const found = await opening;
    if (!found) return undefined;
    const item = found.rest === '' ? path : path.slice(0, -found.rest.length - 1);
    this.keep(`${point.root.taskId}\n${item}`, opening);
    return found;
  }

  /** The mail store in a folder inside an item, opened as mailboxes; undefined where there is none. */
  private async openStore(point: OpenPoint, folder: string): Promise<InsideTree | undefined> {
    const key = `${point.root.taskId}\n${joinPath(folder, mailStoreFolder)}`;
    const opening =
      this.kept.get(key) ??
      this.open(point, folder).then(async (found) => {
        if (!found) return undefined;
        const { entry } = await findWithParents(found.tree.trees, found.tree.top, found.rest);
        const { openMailStore } = await import('./mailstore/open-mail-store');
        return { tree: await openMailStore(found.tree, entry), rest: '' };
      });
    this.kept.delete(key);
    this.keep(key, opening);
    try {
      return (await opening)?.tree;
    } catch (error) {
      this.kept.delete(key);
      if (error instanceof EngineError && error.code === 'PATH_MISSING') return undefined;
      throw error;
    }
  }

  private keep(key: string, opening: Promise<OpenedInside | undefined>): void {
    this.kept.set(key, opening);
    for (const oldest of this.kept.keys()) {
      if (this.kept.size <= this.most) break;
      this.kept.delete(oldest);
    }
  }
}

/** Finds an item of a point, also where the path leads on inside one. Throws PATH_MISSING. */
export async function findItem(point: OpenPoint, path: string, opened = new OpenedTrees()): Promise<FoundItem> {
  const { store, top } = point;
  try {
    return { tree: treeOf(store), ...(await findWithParents(store.trees, top, path)), stored: point.kept !== undefined };
  } catch (error) {
    if (!(error instanceof EngineError) || error.code !== 'PATH_MISSING') throw error;
    const inside = await opened.open(point, path);
    if (!inside) throw error;
    const { tree, rest } = inside;
    return { tree, ...(await findWithParents(tree.trees, tree.top, rest)), stored: false };
  }
}

import { EngineError } from '../errors';
import { NameSet } from '../index/name-set';
import type { Store } from '../store/store';
import { topEntry } from '../tree/tree-reader';
import type { TreeEntry } from '../tree/tree-entry';

/**
 * Which chunks the points of a target need, from the roots on the target alone. Marking again adds what has appeared since; what was seen once is not walked again. Throws
 * when anything can not be read: then nothing is known to be needless.
 */
export class Marker {
  readonly live = new NameSet();
  /** Needed chunks that no pack of the index holds; found only where the reader can have them from elsewhere. */
  readonly unknown: Buffer[] = [];
  private readonly folders = new NameSet();
  private readonly roots = new Set<string>();

  constructor(
    private readonly store: Store,
    private readonly stopped: () => boolean,
    private readonly onNeed: (name: Buffer) => void = () => undefined,
  ) {}

  /** Points found so far. */
  get points(): number {
    return this.roots.size;
  }

  async mark(): Promise<void> {
    for (const point of await this.store.listPoints()) {
      if (this.roots.has(point.taskId)) continue;
      const root = await this.store.listedRoot(point);
      if (!root) continue;
      this.roots.add(point.taskId);
      await this.walk(topEntry(root));
    }
  }

  /** Marks what one point needs, given its top folder. */
  async walk(top: TreeEntry): Promise<void> {
    const waiting = [top];
    for (let entry = waiting.pop(); entry; entry = waiting.pop()) {
      if (this.stopped()) throw new EngineError('STOPPED');
      await this.content(entry);
      if (!entry.folder || !this.folders.add(entry.folder.node)) continue;
      for await (const { node, entries } of this.store.trees.nodes(entry.folder.node)) {
        this.need(node);
        for (const child of entries) if (child.content || child.folder) waiting.push(child);
      }
    }
  }

  private need(name: Buffer): void {
    if (!this.live.add(name)) return;
    this.onNeed(name);
    if (!this.store.index.chunks.find(name)) this.unknown.push(Buffer.from(name));
  }

  private async content({ content }: TreeEntry): Promise<void> {
    if (!content) return;
    if ('lists' in content) for (let at = 0; at < content.lists.length; at += 32) this.need(content.lists.subarray(at, at + 32));
    for await (const { names } of this.store.trees.contentParts(content))
      for (let at = 0; at < names.length; at += 32) this.need(names.subarray(at, at + 32));
  }
}

import type { TreeEntry, TreeReader } from '@lithodex/engine';

/** Entries of a folder of the point before, asked for in the order of their names. */
export class BaseFolder {
  private readonly pieces: AsyncIterator<TreeEntry[]> | undefined;
  private piece: readonly TreeEntry[] = [];
  private at = 0;
  private ended: boolean;

  constructor(trees: TreeReader, entry: TreeEntry | undefined) {
    this.pieces = entry?.folder && trees.pieces(entry.folder.node)[Symbol.asyncIterator]();
    this.ended = !this.pieces;
  }

  /** The entry of a name, undefined where there was none. Names come in ascending order; most are found without waiting. */
  of(name: string): TreeEntry | undefined | Promise<TreeEntry | undefined> {
    while (this.at < this.piece.length && this.piece[this.at]!.name < name) this.at++;
    const found = this.piece[this.at];
    if (found) return found.name === name ? found : undefined;
    return this.ended ? undefined : this.further(name);
  }

  private async further(name: string): Promise<TreeEntry | undefined> {
    for (;;) {
      while (this.at < this.piece.length && this.piece[this.at]!.name < name) this.at++;
      const found = this.piece[this.at];
      if (found) return found.name === name ? found : undefined;
      if (this.ended) return undefined;
      const next = await this.pieces!.next();
      this.ended = next.done === true;
      this.piece = next.done ? [] : next.value;
      this.at = 0;
    }
  }
}

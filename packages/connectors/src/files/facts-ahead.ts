import { statIn, type FileFacts } from '@lithodex/engine';
import type { LiveTree } from './live-tree';
import { factsLength, getFacts, putFacts } from './scout-message';

/** So many names are looked at with the rights of the account taken on once. */
const atOnce = 64;

/** What is known of the names of a folder, asked for many at a time. */
export class FactsAhead {
  private readonly all = new Float64Array(atOnce * factsLength);
  private failed: (Error | undefined)[] = [];

  /** Facts of the name at `i`, or what asking for them failed with. The names of a folder come in order, from the first on. */
  at(tree: LiveTree, folder: number, names: readonly string[], i: number, facts: FileFacts): Error | undefined {
    const place = i % atOnce;
    if (place === 0) this.look(tree, folder, names.slice(i, i + atOnce), facts);
    getFacts(this.all, place, facts);
    return this.failed[place];
  }

  private look(tree: LiveTree, folder: number, names: readonly string[], facts: FileFacts): void {
    this.failed = tree.run(() =>
      names.map((name, i) => {
        try {
          statIn(folder, name, facts);
          putFacts(this.all, i, facts);
          return undefined;
        } catch (error) {
          return error as Error;
        }
      }),
    );
  }
}

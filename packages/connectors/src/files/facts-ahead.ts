import { FileFacts, statIn } from '@lithodex/engine';
import type { LiveTree } from './live-tree';

/** So many names are looked at with the rights of the account taken on once. */
const atOnce = 64;

/** What is known of the names of a folder, asked for many at a time. Good until the next are asked for. */
export class FactsAhead {
  private readonly facts = Array.from({ length: atOnce }, () => new FileFacts());
  private failed: (Error | undefined)[] = [];

  /** Facts of the name at `i`, or what asking for them failed with. The names of a folder come in order, from the first on. */
  at(
    tree: LiveTree,
    folder: number,
    names: readonly string[],
    i: number,
  ): { readonly facts: FileFacts; readonly failed: Error | undefined } {
    const place = i % atOnce;
    if (place === 0) this.look(tree, folder, names.slice(i, i + atOnce));
    return { facts: this.facts[place]!, failed: this.failed[place] };
  }

  private look(tree: LiveTree, folder: number, names: readonly string[]): void {
    this.failed = tree.run(() =>
      names.map((name, i) => {
        try {
          statIn(folder, name, this.facts[i]!);
          return undefined;
        } catch (error) {
          return error as Error;
        }
      }),
    );
  }
}

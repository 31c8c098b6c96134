import { joinPath, mailStoreOn, objectNameOf } from '@lithodex/core';
import { EngineError, type TreeEntry } from '@lithodex/engine';
import type { ItemChange, ItemChanges } from '@lithodex/kinds';
import type { ReadableTree } from '../readable-tree';
import { SourceError } from '../source-error';
import { mailError } from './imap-account';
import type { FieldChange } from './item-fields';
import { itemFacts } from './item-facts';

/** Items that are told at most. */
const mostTold = 3000;
const mostFields = 30;
const longestValue = 300;

/** An item of a point. */
export interface StoredItem {
  readonly path: string;
  readonly entry: TreeEntry;
}
/** A folder of a point with the items right in it. */
export interface StoredFolder extends StoredItem {
  readonly items: readonly StoredItem[];
}

/** Everything below a folder of a point, folder by folder. */
export async function* foldersBelow(tree: ReadableTree, entry: TreeEntry, path: string): AsyncGenerator<StoredFolder> {
  if (!entry.folder || entry.unread) return;
  const entries = await tree.trees.folder(entry.folder.node);
  yield { path, entry, items: entries.filter((e) => e.kind === 'file').map((e) => ({ path: joinPath(path, e.name), entry: e })) };
  for (const e of entries) if (e.kind === 'folder') yield* foldersBelow(tree, e, joinPath(path, e.name));
}

/** Folders as people know them, in a path of a point. */
export const foldersIn = (path: string): string[] => (mailStoreOn(path)?.rest ?? path).split('/').slice(1, -1).map(objectNameOf);

/** Words that all have to be in what is known of an item. */
const holdsAll = (about: string, text: string) => {
  const all = text.toLowerCase();
  return about
    .toLowerCase()
    .split(/\s+/)
    .every((word) => all.includes(word));
};

function itemOf({ path, entry }: StoredItem, change: ItemChange['change'], differs: readonly FieldChange[]): ItemChange {
  const facts = itemFacts(entry);
  const common = {
    path,
    change,
    folder: foldersIn(path).join(' / ').slice(0, 1000),
    size: entry.size,
    differs: differs.slice(0, mostFields).map(({ what, was, now }) => ({
      what: what.slice(0, 100),
      was: was.slice(0, longestValue),
      now: now.slice(0, longestValue),
    })),
  };
  const at = Number(entry.mtimeNs / 1_000_000n);
  const last = objectNameOf(path.split('/').at(-1)!).slice(0, 1000);
  if (facts?.type === 'message')
    return { ...common, type: 'message', label: facts.subject || 'no subject', about: facts.from, at: facts.at };
  if (facts?.type === 'appointment') return { ...common, type: 'appointment', label: facts.title, about: facts.start, at: null };
  if (facts?.type === 'contact') return { ...common, type: 'contact', label: facts.title, about: facts.addresses.slice(0, 400), at: null };
  return { ...common, type: 'file', label: last, about: '', at };
}

const searched = ({ path, entry }: StoredItem): string => {
  const facts = itemFacts(entry);
  const names = facts?.type === 'message' ? `${facts.subject} ${facts.from} ${facts.to} ${facts.files.map((f) => f.name).join(' ')}` : '';
  return `${names} ${objectNameOf(path)}`;
};

/** Something that is there now and was not then, as far as is known without reading it. */
export type AddedItem = Pick<ItemChange, 'type' | 'label' | 'about' | 'folder' | 'at' | 'size'>;

/** What a comparison finds, told up to a limit and counted beyond. */
export class ChangesTold {
  private readonly items: ItemChange[] = [];
  private readonly troubles: ItemChanges['troubles'] = [];
  private readonly counts = { gone: 0, changed: 0, added: 0 };
  looked = 0;

  /**
   * @param about words that all have to be in what is known of an item; '' for everything
   * @param whole what was only moved or marked, and what is new, is told as well
   */
  constructor(
    private readonly about: string,
    readonly whole: boolean,
    private readonly stopped: () => boolean,
  ) {}

  tell(stored: StoredItem, change: 'gone' | 'changed', differs: readonly FieldChange[] = []): void {
    if (this.about !== '' && !holdsAll(this.about, searched(stored))) return;
    this.counts[change]++;
    if (this.items.length < mostTold) this.items.push(itemOf(stored, change, differs));
  }

  tellAdded(item: AddedItem): void {
    if (this.about !== '' && !holdsAll(this.about, `${item.label} ${item.about}`)) return;
    this.counts.added++;
    const cut = { label: item.label.slice(0, 1000), about: item.about.slice(0, 400), folder: item.folder.slice(0, 1000) };
    if (this.items.length < mostTold) this.items.push({ ...item, ...cut, path: '', change: 'added', differs: [] });
  }

  goOn(): void {
    if (this.stopped()) throw new EngineError('STOPPED');
  }

  async service(top: string, act: () => Promise<void>): Promise<void> {
    try {
      await act();
    } catch (error) {
      if (error instanceof EngineError) throw error;
      const { message } = error instanceof SourceError ? error : mailError(error);
      this.troubles.push({ top, trouble: message.slice(0, 400) });
    }
  }

  get answer(): ItemChanges {
    const { gone, changed, added } = this.counts;
    return {
      items: this.items,
      looked: this.looked,
      counts: this.counts,
      more: gone + changed + added - this.items.length,
      troubles: this.troubles,
    };
  }
}

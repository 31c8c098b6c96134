import type { ItemLook, SeenChange } from '@lithodex/core';
import type { Random } from '../../demo/harbour/random';

const day = 86_400_000;
export const firstNight = Date.UTC(2026, 0, 5, 22);

/** An item of a tree that lives: what tells its damage, and what became of it by an attack. */
export interface Item extends ItemLook {
  /** The item of before the attack, and the night it was damaged in. */
  readonly damagedOf?: string;
}

/** What an item of one type looks like. */
export interface Type {
  readonly ending: string;
  /** Bytes, roughly. */
  readonly size: number;
  /** Looks random by nature, without the form of any known format. */
  readonly random?: boolean;
}

/** A tree over many nights; what happens in a night is gathered as the differences a point shows. */
export class Life {
  readonly items = new Map<string, Item>();
  private was = new Map<string, Item | undefined>();
  private serial = 0;
  night = 0;

  constructor(readonly random: Random) {}

  get now(): number {
    return firstNight + this.night * day;
  }

  content(): string {
    return `c${this.serial++}`;
  }

  put(path: string, item: Omit<Item, 'mtime' | 'content'> & { readonly content?: string; readonly mtime?: number }): void {
    this.remember(path);
    const mtime = this.now - this.random.int(0, day - 1);
    this.items.set(path, { content: this.content(), mtime, ...item });
  }

  add(folder: string, type: Type, name = `${folder.slice(0, 3)}-${this.serial.toString(36)}`): string {
    const path = `${folder}/${name}${type.ending}`;
    this.put(path, { size: Math.ceil(type.size * (0.2 + 2 * this.random.next() ** 2)), random: type.random ?? false });
    return path;
  }

  /** Written anew, with about the size it had; made where it has gone meanwhile. */
  edit(path: string): void {
    const item = this.items.get(path) ?? { size: 1_000_000, random: false };
    this.put(path, { size: Math.ceil(item.size * (0.9 + 0.25 * this.random.next())), random: item.random });
  }

  remove(path: string): void {
    this.remember(path);
    this.items.delete(path);
  }

  /** Whether it stood there, as it is, at the point before. */
  stood(path: string): boolean {
    return this.was.has(path) ? this.was.get(path) !== undefined : this.items.has(path);
  }

  move(path: string, to: string): void {
    const item = this.items.get(path);
    if (!item) return;
    this.remove(path);
    this.put(to, item);
  }

  /** A share of the items that fit, picked by chance. */
  some(share: number, fits: (path: string, item: Item) => boolean = () => true): string[] {
    return [...this.items].filter(([path, item]) => fits(path, item) && this.random.chance(share)).map(([path]) => path);
  }

  private remember(path: string): void {
    if (!this.was.has(path)) this.was.set(path, this.items.get(path));
  }

  /** What the point of this night shows against the one before; the next night begins. */
  turn(): { changes: SeenChange[]; damaged: Map<string, Item> } {
    const changes: SeenChange[] = [];
    const damaged = new Map<string, Item>();
    for (const [path, before] of this.was) {
      const now = this.items.get(path);
      const at = path.lastIndexOf('/');
      const place = { folder: path.slice(0, at), name: path.slice(at + 1) };
      if (now?.damagedOf !== undefined && this.was.get(now.damagedOf)) damaged.set(now.damagedOf, now);
      if (before && now) changes.push({ ...place, change: 'changed', now, before });
      else if (now) changes.push({ ...place, change: 'added', now });
      else if (before) changes.push({ ...place, change: 'removed', before });
    }
    this.was = new Map();
    this.night++;
    return { changes, damaged };
  }
}

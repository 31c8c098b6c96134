import type { ChangeCounts } from './change-counts';

/** An item as it stood at a point, in what tells damage. */
export interface ItemLook {
  readonly size: number;
  /** Its content looks random. */
  readonly random: boolean;
  /** What stands for its content; '' for none. */
  readonly content: string;
  /** Milliseconds since 1970. */
  readonly mtime: number;
}

/** One item that differs between two points. Byte strings. */
export type SeenChange = { readonly folder: string; readonly name: string } & (
  | { readonly change: 'added'; readonly now: ItemLook }
  | { readonly change: 'changed'; readonly now: ItemLook; readonly before: ItemLook }
  | { readonly change: 'removed'; readonly before: ItemLook }
);

/** An item that lost its content between two points, with what stands in its place. */
export interface Damaged {
  readonly folder: string;
  readonly name: string;
  /** `inPlace`: it looks random now; `twin`: it is gone and one that looks random came; `gone`: nothing came. */
  readonly how: 'inPlace' | 'twin' | 'gone';
  /** Name of the twin, in the same folder. */
  readonly twin?: string;
  readonly size: number;
  /** When what stands there now was written, in milliseconds since 1970; null where nothing does. */
  readonly since: number | null;
}

interface Held extends ItemLook {
  readonly folder: string;
  readonly name: string;
}

/** Added and removed items that are kept to be paired, at most: beyond them nothing is told about twins. */
const mostHeld = 500_000;
const freshMs = 30 * 86_400_000;
/** How much larger encrypted content may be: keys and padding are put before or behind it. */
const mostGrown = 64 * 1024;

/** Encrypting keeps the size, give or take what is put around it; compressing does not. */
function keepsSize(before: number, now: number): boolean {
  return now >= before * 0.95 && now <= before * 1.1 + mostGrown;
}

const stemOf = (name: string): string => {
  const dot = name.lastIndexOf('.');
  return dot > 0 ? name.slice(0, dot) : name;
};

const endingOf = (name: string, original: string): string =>
  name.length > original.length && name.startsWith(original)
    ? name.slice(original.length)
    : name.includes('.')
      ? name.slice(name.lastIndexOf('.'))
      : '';

/** Reads the differences between two points once, counts them, and finds what was damaged. */
export class ChangeReader {
  private added = 0;
  private changed = 0;
  private removed = 0;
  private random = 0;
  private turnedRandom = 0;
  private addedBytes = 0;
  private removedBytes = 0;
  private readonly came: Held[] = [];
  private readonly went: Held[] = [];
  /** Changed, and looking random now; `was`: it did before. */
  private readonly inPlace: { readonly item: Damaged; readonly grown: number; readonly was: boolean }[] = [];

  /** `pairs`: there was a point before, so that something can have been replaced. */
  constructor(private readonly pairs = true) {}

  add(seen: SeenChange): void {
    const { folder, name } = seen;
    if (seen.change === 'removed') {
      this.removed++;
      this.removedBytes += seen.before.size;
      if (this.holds) this.went.push({ folder, name, ...seen.before });
      return;
    }
    const { now } = seen;
    if (seen.change === 'added') {
      this.added++;
      this.addedBytes += now.size;
      if (now.random) this.random++;
      if (this.holds) this.came.push({ folder, name, ...now });
      return;
    }
    if (seen.before.content === now.content && seen.before.size === now.size) return;
    this.changed++;
    if (!now.random) return;
    this.random++;
    const was = seen.before.random;
    if (!was) this.turnedRandom++;
    const item: Damaged = { folder, name, how: 'inPlace', size: seen.before.size, since: now.mtime };
    if (this.pairs && this.inPlace.length < mostHeld) this.inPlace.push({ item, grown: now.size - seen.before.size, was });
  }

  private get holds(): boolean {
    return this.pairs && this.came.length + this.went.length < mostHeld;
  }

  /** What was counted, and each item that was damaged; `gone` among them is what was removed without coming back under another name. `before`: how many files there were; `now`: when the point was taken. */
  read(before: number, now: number): { counts: ChangeCounts & { readonly of: 'files' }; damaged: Damaged[] } {
    const moved = this.findMoved();
    const folders = grouped(
      this.went.filter((w) => !moved.has(w)),
      (w) => w.folder,
    );
    const arrived = grouped(this.came, (c) => c.folder);
    const inFolder = [...folders].flatMap(([folder, went]) => pairFolder(went, arrived.get(folder) ?? []));
    const pairs = [...inFolder, ...pairElsewhere([...folders.values()].flat(), this.came, inFolder)];
    const twins = keepLikely(pairs.filter((p) => p.isTwin));
    const ending = mostOften(twins.map((p) => endingOf(p.to.name, p.from.name))) ?? '';
    const replaced = new Map(twins.map((p) => [p.from, p.to]));
    const byName = new Set(pairs.filter((p) => p.by === 'name').map((p) => p.from));
    if (twins.length >= turnsAlike) {
      // whatever it looked like before, however it was written the same night, and too small to look like anything
      for (const { from, to } of pairs) if (ending && endingOf(to.name, from.name) === ending) replaced.set(from, to);
      // names of chance: nothing but the folder leads from one to the other
      if (twins.filter((p) => p.by === 'size').length * 2 > twins.length)
        for (const [folder, went] of folders) pairRest(went, arrived.get(folder) ?? [], replaced);
    }
    const gone = [...folders.values()].flat().filter((w) => !replaced.has(w) && !byName.has(w));
    const { added, changed, removed, random, turnedRandom, addedBytes, removedBytes } = this;
    const counts = {
      of: 'files' as const,
      before,
      added,
      changed,
      removed,
      random,
      turnedRandom,
      renamed: byName.size,
      twins: [...replaced.keys()].filter((from) => !from.random).length,
      moved: moved.size,
      removedFresh: gone.filter((g) => g.mtime > now - freshMs).length,
      addedBytes,
      removedBytes,
      ending,
    };
    const damaged: Damaged[] = [
      ...this.damagedInPlace(),
      ...[...replaced].map(([{ folder, name, size }, to]) => ({
        folder,
        name,
        how: 'twin' as const,
        twin: to.name,
        size,
        since: to.mtime,
      })),
      ...gone.map(({ folder, name, size }) => ({ folder, name, how: 'gone' as const, size, since: null })),
    ];
    return { counts, damaged };
  }

  /** What turned random, and what was random already and grew by as much as most of that did. */
  private damagedInPlace(): Damaged[] {
    const grown = mostOften(this.inPlace.filter((i) => !i.was).map((i) => i.grown));
    return this.inPlace
      .filter((i) => !i.was || (grown !== undefined && i.grown === grown && turnsAlike <= this.turnedRandom))
      .map((i) => i.item);
  }

  /** What was removed in one place and added with the same content in another. */
  private findMoved(): Set<Held> {
    const key = (h: Held) => `${h.content} ${h.size}`;
    const there = new Map<string, number>();
    for (const c of this.came) if (c.content) there.set(key(c), (there.get(key(c)) ?? 0) + 1);
    const moved = new Set<Held>();
    for (const w of this.went) {
      const left = w.content ? (there.get(key(w)) ?? 0) : 0;
      if (!left) continue;
      there.set(key(w), left - 1);
      moved.add(w);
    }
    return moved;
  }
}

function put<T>(groups: Map<string, T[]>, key: string, value: T): void {
  const group = groups.get(key);
  if (group) group.push(value);
  else groups.set(key, [value]);
}

function grouped<T>(values: readonly T[], keyOf: (value: T) => string): Map<string, T[]> {
  const groups = new Map<string, T[]>();
  for (const value of values) put(groups, keyOf(value), value);
  return groups;
}

interface Pair {
  readonly from: Held;
  readonly to: Held;
  readonly by: 'name' | 'stem' | 'size';
  /** What came looks random, which what went did not, and kept its size. */
  readonly isTwin: boolean;
}

/** So many have to turn for what they have in common to say something about others. */
const turnsAlike = 3;
/** Bytes by which what is put around encrypted content varies: padding. */
const padding = 32;

function mostOften<T>(values: readonly T[]): T | undefined {
  const counts = new Map<T, number>();
  for (const v of values) counts.set(v, (counts.get(v) ?? 0) + 1);
  return [...counts].sort((a, b) => b[1] - a[1])[0]?.[0];
}

/** Of pairs that were made by their size alone, those that grew by the same: what encrypts puts the same around everything, chance does not. None where most were made by their names. */
function keepLikely(pairs: readonly Pair[]): Pair[] {
  const bySize = pairs.filter((p) => p.by === 'size');
  const grown = bySize.map((p) => p.to.size - p.from.size).sort((a, b) => a - b);
  let [best, from] = [0, 0];
  for (let to = 0, at = 0; to < grown.length; to++) {
    while (grown[to]! - grown[at]! > padding) at++;
    if (to - at + 1 > best) [best, from] = [to - at + 1, grown[at]!];
  }
  const likely = best >= Math.max(turnsAlike, bySize.length * 0.5) && bySize.length * 2 > pairs.length;
  return pairs.filter((p) => {
    const more = p.to.size - p.from.size;
    return p.by !== 'size' || (likely && more >= from && more <= from + padding);
  });
}

/** Pairs what went from a folder with what came there: by its name, then by its stem, then by its size alone where what came looks random. */
function pairFolder(went: readonly Held[], came: readonly Held[]): Pair[] {
  if (!came.length) return [];
  const pairs: Pair[] = [];
  const paired = new Set<Held>();
  const pair = (from: Held, to: Held, by: Pair['by']) => {
    paired.add(from).add(to);
    pairs.push({ from, to, by, isTwin: isTwin(from, to) });
  };
  const names = new Set(went.map((w) => w.name));
  const byStart = new Map<string, Held[]>();
  // the longest beginning that went, which ends before a dot or within the last eight bytes
  for (const c of came)
    for (let end = c.name.length - 1; end > 0; end--) {
      if (c.name[end] !== '.' && c.name.length - end > 8) continue;
      const start = c.name.slice(0, end);
      if (!names.has(start)) continue;
      put(byStart, start, c);
      break;
    }
  for (const w of went) {
    const to = takeFree(byStart.get(w.name), paired);
    if (to) pair(w, to, 'name');
  }
  const byStem = grouped(
    came.filter((c) => c.random && !paired.has(c)),
    (c) => stemOf(c.name),
  );
  for (const w of went) {
    const to = paired.has(w) ? undefined : takeFree(byStem.get(stemOf(w.name)), paired);
    if (to) pair(w, to, 'stem');
  }
  const left = came.filter((c) => !paired.has(c) && c.random).sort((a, b) => a.size - b.size);
  let at = 0;
  for (const w of went.filter((h) => !paired.has(h) && !h.random && h.size > 0).sort((a, b) => a.size - b.size)) {
    while (at < left.length && left[at]!.size < w.size) at++;
    if (!left[at]) break;
    if (keepsSize(w.size, left[at]!.size)) pair(w, left[at++]!, 'size');
  }
  return pairs;
}

/** Takes one that is not paired out of some: each is looked at once, however many share a name. */
function takeFree(some: Held[] | undefined, paired: ReadonlySet<Held>): Held | undefined {
  for (;;) {
    const one = some?.pop();
    if (!one || !paired.has(one)) return one;
  }
}

/** Pairs what went with a twin of its name and an ending in another folder, as where the folder was renamed as well. */
function pairElsewhere(went: readonly Held[], came: readonly Held[], known: readonly Pair[]): Pair[] {
  const paired = new Set(known.flatMap((p) => [p.from, p.to]));
  const left = grouped(
    came.filter((c) => c.random && !paired.has(c)),
    (c) => stemOf(c.name),
  );
  return went.flatMap((from): Pair[] => {
    if (paired.has(from)) return [];
    const to = takeFree(left.get(from.name), paired);
    if (!to || !isTwin(from, to)) return [];
    return [{ from, to, by: 'stem', isTwin: true }];
  });
}

/** In a folder most of which was replaced, what came beside it stands for what went beside it. */
function pairRest(went: readonly Held[], came: readonly Held[], replaced: Map<Held, Held>): void {
  const hit = went.filter((w) => replaced.has(w));
  if (hit.length * 2 < went.length) return;
  const used = new Set(hit.map((w) => replaced.get(w)));
  const left = came.filter((c) => c.random && !used.has(c));
  for (const w of went.filter((h) => !replaced.has(h))) {
    const to = left.pop();
    if (!to) return;
    replaced.set(w, to);
  }
}

const isTwin = (from: Held, to: Held): boolean => to.random && !from.random && keepsSize(from.size, to.size);

import type { Item, Life } from './life';

/** What an attack does in one of its nights. `part`: which night of it, from 0. */
export interface Attack {
  readonly name: string;
  readonly nights: number;
  readonly strike: (life: Life, part: number) => void;
}

const untouched = (_: string, item: Item) => item.damagedOf === undefined;
const overhead = 1200;

function twin(life: Life, path: string, to: string): void {
  const { size } = life.items.get(path)!;
  life.remove(path);
  life.put(to, { size: size + overhead, random: true, damagedOf: path });
}

function inPlace(life: Life, path: string): void {
  life.put(path, { size: life.items.get(path)!.size + 64, random: true, damagedOf: path });
}

const folderOf = (path: string) => path.slice(0, path.lastIndexOf('/'));
const ending = (life: Life) => `.${life.random.int(36 ** 3, 36 ** 5).toString(36)}`;

const added = (name: string, share: [low: number, high: number], nights = 1): Attack => {
  const endings = new WeakMap<Life, string>();
  return {
    name,
    nights,
    strike: (life) => {
      const own = endings.get(life) ?? ending(life);
      endings.set(life, own);
      for (const path of life.some(share[0] + (share[1] - share[0]) * life.random.next(), untouched)) twin(life, path, path + own);
    },
  };
};
const kept = (name: string, share: [low: number, high: number], nights = 1): Attack => ({
  name,
  nights,
  strike: (life) => {
    for (const path of life.some(share[0] + (share[1] - share[0]) * life.random.next(), untouched)) inPlace(life, path);
  },
});

/** Twenty in a hundred go slowly, over ten nights. */
export const attacks: readonly Attack[] = [
  added('all, with an ending', [0.9, 1]),
  added('a third, with an ending', [0.2, 0.4]),
  kept('all in place, names kept', [0.9, 1]),
  kept('a part in place, names kept', [0.1, 0.3]),
  {
    name: 'all under names of chance',
    nights: 1,
    strike: (life) => {
      for (const path of life.some(0.9, untouched))
        twin(life, path, `${folderOf(path)}/${life.content()}${life.random.int(0, 1e9).toString(36)}`);
    },
  },
  {
    name: 'some folders, endings replaced',
    nights: 1,
    strike: (life) => {
      const folders = new Set([...life.items.keys()].map(folderOf).filter(() => life.random.chance(0.25)));
      if (!folders.size) folders.add(folderOf([...life.items.keys()][0]!));
      for (const path of life.some(1, (p, item) => folders.has(folderOf(p)) && untouched(p, item)))
        twin(life, path, path.replace(/(\.[^./]*)?$/, '.locked'));
    },
  },
  {
    name: 'what is old or new alike is deleted',
    nights: 1,
    strike: (life) => {
      for (const path of life.some(0.5 + 0.5 * life.random.next())) life.remove(path);
    },
  },
  kept('parts of each file, names kept', [0.5, 0.9]),
  added('slow, with an ending', [0.03, 0.08], 10),
  kept('slow, names kept', [0.02, 0.06], 10),
];

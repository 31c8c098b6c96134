import type { Life, Type } from './life';

/** How one sort of workload begins and what it does by itself in a night. */
export interface Habit {
  readonly name: string;
  readonly begin: (life: Life) => void;
  readonly live: (life: Life) => void;
  /** What happens to it now and then without any harm. */
  readonly events: readonly ((life: Life) => void)[];
}

const text: Type = { ending: '.txt', size: 8_000 };
const sheet: Type = { ending: '.xlsx', size: 60_000 };
const letter: Type = { ending: '.docx', size: 40_000 };
const print: Type = { ending: '.pdf', size: 300_000 };
const photo: Type = { ending: '.jpg', size: 2_500_000 };
const source: Type = { ending: '.c', size: 12_000 };
const object: Type = { ending: '.o', size: 40_000 };
const blob: Type = { ending: '', size: 30_000, random: true };

const weekday = (life: Life) => (life.night + 1) % 7;
const isWeekend = (life: Life) => weekday(life) === 6 || weekday(life) === 0;
const isMonthEnd = (life: Life) => new Date(life.now + 86_400_000).getUTCDate() === 1;
const ends = (ending: string) => (path: string) => path.endsWith(ending);
const times = (n: number, act: (i: number) => void) => {
  for (let i = 0; i < n; i++) act(i);
};

// ---- what may happen anywhere
const moveAll = (life: Life) => {
  for (const path of [...life.items.keys()]) life.move(path, `/moved-${life.night}${path}`);
};
const clearUpOld = (life: Life) => {
  const old = life.now - 550 * 86_400_000;
  for (const path of life.some(0.9, (_, item) => item.mtime < old)) life.remove(path);
};
const newSoftware = (life: Life) => {
  times(life.random.int(100, 800), (i) => life.add(`/software-${life.night}/part-${i % 12}`, i % 3 ? object : text));
};
const renameEndings = (life: Life) => {
  for (const path of life.some(1, ends('.txt'))) life.move(path, path.replace(/\.txt$/, '.text'));
};
const rewriteAll = (life: Life) => {
  for (const path of life.some(0.95)) life.edit(path);
};
/** Compressed one by one, as logs and old projects are: smaller, and of a known form. */
const compressAll = (life: Life) => {
  for (const path of life.some(0.8, (p, item) => !item.random && /\.(txt|c|log|csv)$/.test(p))) {
    const { size } = life.items.get(path)!;
    life.remove(path);
    life.put(`${path}.gz`, { size: Math.ceil(size * 0.3), random: false });
  }
};
/** By a program that writes no form of its own. */
const compressFormless = (life: Life) => {
  for (const path of life.some(0.3, (p, item) => !item.random && /\.(txt|c|log|csv)$/.test(p))) {
    const { size } = life.items.get(path)!;
    life.remove(path);
    life.put(`${path}.br`, { size: Math.ceil(size * 0.35), random: true });
  }
};
/** Somebody keeps a few things to themselves. */
const sealSome = (life: Life) => {
  for (const path of life.some(1, (p) => /\.(pdf|docx|txt)$/.test(p)).slice(0, life.random.int(1, 3))) {
    const { size } = life.items.get(path)!;
    life.remove(path);
    life.put(`${path}.gpg`, { size: size + 400, random: true });
  }
};
const convertPhotos = (life: Life) => {
  for (const path of life.some(0.9, ends('.jpg'))) {
    const { size } = life.items.get(path)!;
    life.remove(path);
    life.put(path.replace(/\.jpg$/, '.webp'), { size: Math.ceil(size * 0.7), random: false });
  }
};
const broughtBack = (life: Life) => {
  times(life.random.int(50, 400), () => life.add('/brought-back', life.random.pick([text, letter, print])));
};

function fill(life: Life, count: number, folders: number, types: readonly Type[]): void {
  times(count, (i) => {
    const path = life.add(`/area-${i % folders}`, life.random.pick(types));
    const item = life.items.get(path)!;
    // most of it is old when it is protected first
    life.items.set(path, { ...item, mtime: item.mtime - Math.floor(life.random.next() ** 0.5 * 700 * 86_400_000) });
  });
}

const office: Habit = {
  name: 'office',
  begin: (life) => {
    fill(life, life.random.int(600, 2500), 24, [text, sheet, letter, print, photo]);
  },
  live: (life) => {
    const pace = (isWeekend(life) ? 0.1 : 1) * (isMonthEnd(life) ? 8 : 1);
    for (const path of life.some(0.006 * pace)) life.edit(path);
    times(Math.round(pace * life.random.int(3, 14)), () =>
      life.add(`/area-${life.random.int(0, 23)}`, life.random.pick([text, sheet, letter, print, photo])),
    );
    for (const path of life.some(0.001 * pace)) life.remove(path);
  },
  events: [moveAll, clearUpOld, newSoftware, renameEndings, rewriteAll, compressAll, sealSome, convertPhotos, broughtBack],
};

/** Logs that are turned every night, compressed, and dropped after two weeks. */
const logs: Habit = {
  name: 'logs',
  begin: (life) => {
    fill(life, 200, 6, [text]);
    times(40, (i) => {
      life.put(`/log/app-${i}.log`, { size: 500_000, random: false });
    });
  },
  live: (life) => {
    times(40, (i) => {
      const log = (n: number) => `/log/app-${i}.log${n ? `.${n}` : ''}${n > 1 ? '.gz' : ''}`;
      for (let n = 14; n > 1; n--) {
        if (!life.items.has(log(n))) continue;
        if (n === 14) life.remove(log(n));
        else life.move(log(n), log(n + 1));
      }
      if (life.items.has(log(1))) {
        const { size } = life.items.get(log(1))!;
        life.remove(log(1));
        life.put(log(2), { size: Math.ceil(size * 0.1), random: false });
      }
      life.move(log(0), log(1));
      life.put(log(0), { size: life.random.int(200_000, 900_000), random: false });
    });
  },
  events: [newSoftware, compressFormless, moveAll],
};

/** Dumps of databases, plain and sealed, that are kept for some nights; one of each is written anew in place. */
const dumps: Habit = {
  name: 'dumps',
  begin: (life) => {
    times(20, (i) => {
      life.put(`/dumps/base-${i}.sql`, { size: 40_000_000, random: false });
    });
    fill(life, 60, 3, [text]);
  },
  live: (life) => {
    times(20, (i) => {
      life.edit(`/dumps/base-${i}.sql`);
      life.put(`/dumps/base-${i}-${life.night}.sql.gpg`, { size: 9_000_000 + life.random.int(0, 900_000), random: true });
      const old = `/dumps/base-${i}-${life.night - 7}.sql.gpg`;
      if (life.items.has(old)) life.remove(old);
    });
  },
  events: [newSoftware, sealSome],
};

/** Cameras: large files come, the oldest go. */
const cameras: Habit = {
  name: 'cameras',
  begin: (life) => {
    times(600, (i) => {
      life.put(`/cam-${i % 6}/0-${i}${i % 3 ? '.mp4' : '.raw'}`, {
        size: 90_000_000,
        random: i % 3 === 0,
        mtime: life.now - i * 3_000_000,
      });
    });
  },
  live: (life) => {
    times(life.random.int(20, 60), (i) => {
      life.put(`/cam-${i % 6}/${life.night + 1}-${i}${i % 3 ? '.mp4' : '.raw'}`, { size: 90_000_000, random: i % 3 === 0 });
    });
    const films = [...life.items].filter(([path]) => path.includes('/cam-')).sort((a, b) => a[1].mtime - b[1].mtime);
    const oldest = films.slice(0, Math.max(0, films.length - 640));
    for (const [path] of oldest) life.remove(path);
  },
  events: [newSoftware, moveAll],
};

/** Sources and what is built of them: built anew some nights, taken away whole at times. */
const building: Habit = {
  name: 'building',
  begin: (life) => {
    fill(life, 900, 30, [source]);
    times(700, (i) => life.add(`/build/part-${i % 30}`, object, `unit-${i}`));
  },
  live: (life) => {
    for (const path of life.some(0.01, ends('.c'))) life.edit(path);
    const built = ends('.o');
    if (life.random.chance(0.4)) for (const path of life.some(life.random.next(), built)) life.edit(path);
    if (life.random.chance(0.06)) {
      for (const path of life.some(1, built)) life.remove(path);
      times(700, (i) => life.add(`/build/part-${i % 30}`, object, `unit-${i}`));
    }
  },
  events: [newSoftware, rewriteAll, compressAll],
};

/** Small things that come and go, many of them without a form. */
const caching: Habit = {
  name: 'caching',
  begin: (life) => {
    times(1500, (i) => life.add(`/cache/${i % 50}`, i % 3 ? blob : text));
    fill(life, 200, 5, [text, sheet]);
  },
  live: (life) => {
    const cached = life.some(0.1 + 0.15 * life.random.next(), (path) => path.startsWith('/cache/'));
    for (const path of cached) life.remove(path);
    times(cached.length + life.random.int(-20, 20), (i) => life.add(`/cache/${life.random.int(0, 49)}`, i % 3 ? blob : text));
    for (const path of life.some(0.01, (p) => !p.startsWith('/cache/'))) life.edit(path);
  },
  events: [newSoftware, sealSome, renameEndings],
};

/** Messages: a file each, few change, some go. */
const messages: Habit = {
  name: 'messages',
  begin: (life) => {
    fill(life, 2500, 40, [{ ending: '', size: 14_000 }]);
  },
  live: (life) => {
    const pace = isWeekend(life) ? 0.2 : 1;
    times(Math.round(life.random.int(20, 70) * pace), () => life.add(`/area-${life.random.int(0, 39)}`, { ending: '', size: 14_000 }));
    for (const path of life.some(0.004 * pace)) life.move(path, `/trash/${path.slice(path.lastIndexOf('/') + 1)}`);
    if (weekday(life) === 0) for (const path of life.some(1, (p) => p.startsWith('/trash/'))) life.remove(path);
  },
  events: [moveAll, clearUpOld, broughtBack],
};

/** Files of a database that runs: few, and nearly all written every night. */
const tables: Habit = {
  name: 'tables',
  begin: (life) => {
    times(180, (i) => life.add(`/data/base-${i % 4}`, { ending: '.ibd', size: 20_000_000 }, `table-${i}`));
  },
  live: (life) => {
    for (const path of life.some(isWeekend(life) ? 0.5 : 0.8)) life.edit(path);
  },
  events: [newSoftware, rewriteAll],
};

export const habits: readonly Habit[] = [office, office, office, logs, dumps, cameras, building, caching, messages, tables];

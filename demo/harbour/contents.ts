import { Random } from './random';

const poolBytes = 4 << 20;

function makePool(seed: number, next: (random: Random, before: number) => number): Buffer {
  const random = new Random(seed);
  const pool = Buffer.allocUnsafe(poolBytes);
  let value = 64;
  for (let i = 0; i < poolBytes; i++) {
    value = next(random, value);
    pool[i] = value;
  }
  return pool;
}

/** A slowly wandering depth: compresses by about half, as soundings do. */
const depths = makePool(11, (random, before) => (before + random.int(-3, 3)) & 0xff);
/** As dense as a photograph, but not spread as evenly as encrypted bytes. */
const grain = makePool(12, (random) => random.int(0, 250));

function fromPool(pool: Buffer, random: Random, size: number): Buffer {
  const shift = random.int(0, 255);
  const data = Buffer.allocUnsafe(size);
  let at = random.int(0, poolBytes - 1);
  for (let i = 0; i < size; i++) {
    data[i] = (pool[at]! + shift) & 0xff;
    if (++at === poolBytes) at = 0;
  }
  return data;
}

/** A sheet of soundings: a plain header, then depths. */
export function chart(random: Random, name: string, size: number): Buffer {
  const head = Buffer.from(`SOUNDINGS ${name} KELMAR DATUM CD-2004 GRID ${random.int(1, 9)}m\n`);
  return Buffer.concat([head, fromPool(depths, random, Math.max(0, size - head.length))]);
}

/** A camera still. */
export function still(random: Random, size: number): Buffer {
  const body = fromPool(grain, random, size).map((byte) => byte % 251);
  return Buffer.concat([Buffer.from([0xff, 0xd8, 0xff, 0xe0]), body]);
}

const two = (n: number) => String(n).padStart(2, '0');

/** Water levels of a day, every six minutes. */
export function tideLog(random: Random, gauge: string, day: Date): string {
  const lines = [`gauge;time;level_cm;wind_ms`];
  const phase = random.next() * Math.PI;
  for (let minute = 0; minute < 1440; minute += 6) {
    const level = Math.round(180 + 140 * Math.sin((minute / 745) * 2 * Math.PI + phase) + random.int(-4, 4));
    lines.push(
      `${gauge};${day.toISOString().slice(0, 10)} ${two(Math.floor(minute / 60))}:${two(minute % 60)};${level};${(random.next() * 14).toFixed(1)}`,
    );
  }
  return `${lines.join('\n')}\n`;
}

const vessels = [
  'Brisa Norte',
  'Lumen',
  'Vesper Star',
  'Ostrava Maid',
  'Halcyon Reach',
  'Tern',
  'Sula Pride',
  'Grey Heron',
  'Amberline',
  'Northwold',
];
const agents = ['Holm & Sons Agency', 'Brygge Shipping', 'Quayside Forwarding', 'Dam Maritime'];
const cargoes = ['timber', 'gravel', 'reefer containers', 'cellulose', 'wind turbine blades', 'grain', 'general cargo'];

/** A letter about a berth. */
export function berthLetter(random: Random, berth: number, day: Date): string {
  const vessel = random.pick(vessels);
  return [
    'Kelmar Harbour Authority',
    `Berth office, ${day.toISOString().slice(0, 10)}`,
    '',
    `To: ${random.pick(agents)}`,
    `Subject: MV ${vessel}, berth ${berth}`,
    '',
    `We confirm berth ${berth} for MV ${vessel} from ${two(random.int(0, 23))}:00, draught ${(random.next() * 6 + 4).toFixed(1)} m, cargo ${random.pick(cargoes)}.`,
    `Fendering and ${random.int(2, 6)} bollards are reserved. The pilot boards at the outer buoy.`,
    ...Array.from(
      { length: random.int(2, 24) },
      () => `Item ${random.int(100, 999)}: ${random.pick(cargoes)}, ${random.int(1, 900)} t, dues ${(random.next() * 9000).toFixed(2)}.`,
    ),
    '',
    'Berth office',
    '',
  ].join('\n');
}

const pilots = ['A. Vind', 'B. Holm', 'C. Dam', 'D. Lund', 'E. Strand', 'F. Krog', 'G. Bakke'];

/** A week of the pilots' roster. */
export function roster(random: Random, monday: Date): string {
  const lines = ['day;watch;pilot;boat'];
  for (let day = 0; day < 7; day++)
    for (const watch of ['00-08', '08-16', '16-24'])
      lines.push(
        `${new Date(monday.getTime() + day * 86_400_000).toISOString().slice(0, 10)};${watch};${random.pick(pilots)};Pilot ${random.int(1, 3)}`,
      );
  return `${lines.join('\n')}\n`;
}

/** A customs declaration. */
export function declaration(random: Random, number: number): string {
  return JSON.stringify({
    number: `KH-${number}`,
    vessel: random.pick(vessels),
    agent: random.pick(agents),
    goods: Array.from({ length: random.int(1, 8) }, () => ({
      kind: random.pick(cargoes),
      tonnes: random.int(1, 800),
      value: random.int(100, 90_000),
    })),
    seal: random.int(100_000, 999_999),
  });
}

/** A dredging plan: a text head and a bed model. */
export function dredgePlan(random: Random, name: string, size: number): Buffer {
  const head = Buffer.from(
    `DREDGING PLAN ${name}\nvolume ${random.int(2000, 90_000)} m3\ntarget depth ${(random.next() * 4 + 9).toFixed(1)} m\n`,
  );
  return Buffer.concat([head, fromPool(depths, random, size)]);
}

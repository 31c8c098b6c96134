import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import { berthLetter, chart, declaration, dredgePlan, roster, still, tideLog } from './contents';
import { Random } from './random';

const dayMs = 86_400_000;
const iso = (t: number) => new Date(t).toISOString().slice(0, 10);

/** Writes a file as of a moment of the story. */
export function put(file: string, content: string | Buffer, at: number): void {
  fs.mkdirSync(path.dirname(file), { recursive: true });
  fs.writeFileSync(file, content);
  fs.utimesSync(file, at / 1000, at / 1000);
  settleFolders(path.dirname(file), at);
}

/** Gives the folders above a change, up to the server's own, the time of the change. */
function settleFolders(folder: string, at: number): void {
  for (let dir = folder; path.basename(path.dirname(dir)) !== 'servers' && dir !== '/'; dir = path.dirname(dir))
    fs.utimesSync(dir, at / 1000, at / 1000);
}

export interface HarbourServer {
  readonly name: string;
  readonly location: string;
  readonly tags: readonly string[];
  readonly readAs: string | null;
  /** Fills the folder as it was before the first night. */
  readonly fill: (folder: string, random: Random, first: number) => void;
  /** What a day of work changes; `day` counts from 0, `at` is the evening. */
  readonly work: (folder: string, random: Random, day: number, at: number) => void;
}

const seaAreas = ['approach-north', 'approach-south', 'outer-bank', 'turning-basin', 'quay-wall', 'east-mole', 'timber-dock', 'ferry-lane'];

const chartsNas: HarbourServer = {
  name: 'charts-nas',
  location: 'Server room',
  tags: ['chart archive'],
  readAs: null,
  fill(folder, random, first) {
    for (let year = 2012; year <= 2026; year++)
      for (const area of seaAreas)
        put(
          `${folder}/archive/soundings/${area}-${year}.chart`,
          chart(random, `${area} ${year}`, random.int(120_000, 900_000)),
          first - (2027 - year) * 300 * dayMs,
        );
    for (let i = 0; i < 60; i++)
      put(
        `${folder}/archive/sheets-1890s/sheet-${1890 + (i % 10)}-${String(i).padStart(3, '0')}.tif`,
        chart(random, `scan ${i}`, random.int(60_000, 300_000)),
        first - 900 * dayMs,
      );
    for (let i = 1; i <= 160; i++)
      put(
        `${folder}/archive/notices/2026/notice-${String(i).padStart(3, '0')}.txt`,
        berthLetter(random, i % 24, new Date(first - i * dayMs)),
        first - i * dayMs,
      );
    for (const area of seaAreas)
      put(`${folder}/current/${area}-depths.grid`, chart(random, area, random.int(200_000, 700_000)), first - random.int(1, 90) * dayMs);
    put(
      `${folder}/current/buoys.csv`,
      'buoy;lat;lon;light\nKH-1;57.0301;8.2101;Fl G 3s\nKH-2;57.0312;8.2144;Fl R 3s\n',
      first - 40 * dayMs,
    );
    for (let i = 0; i < 8; i++) put(`${folder}/print-queue/job-${i}.ps`, berthLetter(random, i, new Date(first)), first);
  },
  work(folder, random, day, at) {
    put(`${folder}/archive/notices/2026/notice-${String(161 + day).padStart(3, '0')}.txt`, berthLetter(random, day % 24, new Date(at)), at);
    const area = random.pick(seaAreas);
    put(`${folder}/current/${area}-depths.grid`, chart(random, area, random.int(200_000, 700_000)), at);
    fs.rmSync(`${folder}/print-queue`, { recursive: true, force: true });
    for (let i = 0; i < random.int(2, 8); i++) put(`${folder}/print-queue/job-${day}-${i}.ps`, berthLetter(random, i, new Date(at)), at);
  },
};

const gauges = ['inner-mole', 'outer-mole', 'pilot-station', 'timber-dock'];

function tides(name: string, location: string, own: readonly string[]): HarbourServer {
  return {
    name,
    location,
    tags: ['room: server-room'],
    readAs: null,
    fill(folder, random, first) {
      for (let day = 400; day > 0; day--)
        for (const gauge of own)
          put(
            `${folder}/gauges/${gauge}/${iso(first - day * dayMs).slice(0, 7)}/${iso(first - day * dayMs)}.csv`,
            tideLog(random, gauge, new Date(first - day * dayMs)),
            first - day * dayMs,
          );
      put(`${folder}/calibration/offsets.json`, '{"inner-mole":2,"outer-mole":-1}\n', first - 100 * dayMs);
    },
    work(folder, random, day, at) {
      for (const gauge of own)
        put(`${folder}/gauges/${gauge}/${iso(at).slice(0, 7)}/${iso(at)}.csv`, tideLog(random, gauge, new Date(at)), at);
      if (day % 9 === 0) put(`${folder}/calibration/offsets.json`, JSON.stringify({ [own[0]!]: random.int(-3, 3) }), at);
    },
  };
}

const harbourOffice: HarbourServer = {
  name: 'harbour-office',
  location: 'Harbour office',
  tags: ['room: server-room', 'letters'],
  readAs: 'backup',
  fill(folder, random, first) {
    for (let berth = 1; berth <= 24; berth++)
      for (let i = 0; i < 110; i++) {
        const at = first - random.int(1, 900) * dayMs;
        put(
          `${folder}/letters/berth-${String(berth).padStart(2, '0')}/${iso(at)} berth ${berth} no ${100 + i}.txt`,
          berthLetter(random, berth, new Date(at)),
          at,
        );
      }
    put(`${folder}/letters/Überführung Tender Möwe.txt`, berthLetter(random, 3, new Date(first)), first - 20 * dayMs);
    for (let i = 0; i < 12; i++)
      put(
        `${folder}/personnel/appraisals/2025-${String(i + 1).padStart(2, '0')}.txt`,
        berthLetter(random, 0, new Date(first)),
        first - i * 20 * dayMs,
      );
    fs.symlinkSync('letters/berth-01', `${folder}/first-berth`);
  },
  work(folder, random, day, at) {
    for (let i = 0; i < random.int(3, 18); i++) {
      const berth = random.int(1, 24);
      put(
        `${folder}/letters/berth-${String(berth).padStart(2, '0')}/${iso(at)} berth ${berth} no ${300 + day * 20 + i}.txt`,
        berthLetter(random, berth, new Date(at)),
        at,
      );
    }
  },
};

const gateCams: HarbourServer = {
  name: 'gate-cams',
  location: 'North gate',
  tags: ['gates'],
  readAs: null,
  fill(folder, random, first) {
    for (let day = 20; day > 0; day--) stills(folder, random, first - day * dayMs);
  },
  work(folder, random, _day, at) {
    stills(folder, random, at);
    for (const gate of ['north', 'timber']) {
      const days = fs.readdirSync(`${folder}/stills/${gate}`).sort();
      for (const old of days.slice(0, Math.max(0, days.length - 20))) fs.rmSync(`${folder}/stills/${gate}/${old}`, { recursive: true });
    }
  },
};

function stills(folder: string, random: Random, at: number): void {
  for (const gate of ['north', 'timber'])
    for (let hour = 5; hour < 22; hour += 2)
      put(
        `${folder}/stills/${gate}/${iso(at)}/${gate}-gate-${String(hour).padStart(2, '0')}00.jpg`,
        still(random, random.int(40_000, 110_000)),
        at,
      );
}

const dredgePlans: HarbourServer = {
  name: 'dredge-plans',
  location: 'Server room',
  tags: ['room: server-room'],
  readAs: null,
  fill(folder, random, first) {
    for (let year = 2019; year <= 2026; year++)
      for (const area of seaAreas)
        put(
          `${folder}/plans/${year}/dredge-plan-${area}-${year}.pln`,
          dredgePlan(random, `${area} ${year}`, random.int(300_000, 800_000)),
          first - (2027 - year) * 200 * dayMs,
        );
  },
  work(folder, random, day, at) {
    if (day % 3 !== 0) return;
    const file = `${folder}/plans/2026/dredge-plan-${random.pick(seaAreas)}-2026.pln`;
    const plan = fs.existsSync(file) ? fs.readFileSync(file) : Buffer.alloc(0);
    const at0 = random.int(0, Math.max(0, plan.length - 5000));
    put(file, Buffer.concat([plan.subarray(0, at0), dredgePlan(random, 'correction', 4000), plan.subarray(at0)]), at);
  },
};

const pilotRosters: HarbourServer = {
  name: 'pilot-rosters',
  location: 'Lighthouse station',
  tags: ['pilots'],
  readAs: null,
  fill(folder, random, first) {
    for (let week = 60; week > 0; week--)
      put(
        `${folder}/rosters/${iso(first - week * 7 * dayMs).slice(0, 4)}/roster-${iso(first - week * 7 * dayMs)}.csv`,
        roster(random, new Date(first - week * 7 * dayMs)),
        first - week * 7 * dayMs,
      );
    put(
      `${folder}/handbook/boarding-rules.md`,
      '# Boarding\n\nThe pilot boards at the outer buoy, on the lee side.\n',
      first - 200 * dayMs,
    );
  },
  work(folder, random, day, at) {
    if (day % 7 === 0) put(`${folder}/rosters/${iso(at).slice(0, 4)}/roster-${iso(at)}.csv`, roster(random, new Date(at)), at);
  },
};

const customsShed: HarbourServer = {
  name: 'customs-shed',
  location: 'Customs shed 2',
  tags: ['customs'],
  readAs: null,
  fill(folder, random, first) {
    for (let i = 0; i < 6_000; i++)
      put(
        `${folder}/declarations/${2024 + (i % 3)}/${String(Math.floor(i / 200)).padStart(3, '0')}/KH-${40_000 + i}.json`,
        declaration(random, 40_000 + i),
        first - random.int(1, 700) * dayMs,
      );
  },
  work(folder, random, day, at) {
    for (let i = 0; i < 25; i++)
      put(`${folder}/declarations/2026/new/KH-${70_000 + day * 25 + i}.json`, declaration(random, 70_000 + day * 25 + i), at);
  },
};

const aisRelay: HarbourServer = {
  name: 'ais-relay',
  location: 'Lighthouse station',
  tags: [],
  readAs: null,
  fill(folder, random, first) {
    for (let i = 0; i < 30; i++)
      put(`${folder}/tracks/${iso(first - i * dayMs)}.csv`, tideLog(random, 'ais', new Date(first - i * dayMs)), first - i * dayMs);
  },
  work() {
    // nobody works here, which is why nobody noticed that it is not protected
  },
};

export const harbourServers: readonly HarbourServer[] = [
  chartsNas,
  tides('tides-01', 'Server room', gauges.slice(0, 2)),
  tides('tides-02', 'Lighthouse station', gauges.slice(2)),
  harbourOffice,
  gateCams,
  dredgePlans,
  pilotRosters,
  customsShed,
  aisRelay,
];

/** What the attackers did to the chart archive: most files replaced by encrypted twins, the current grids overwritten in place. */
export function encryptCharts(folder: string, random: Random, at: number): void {
  const walk = (dir: string) => {
    for (const entry of fs.readdirSync(dir, { withFileTypes: true })) {
      const file = `${dir}/${entry.name}`;
      if (entry.isDirectory()) walk(file);
      else if (!random.chance(0.03)) {
        const size = fs.statSync(file).size;
        const inPlace = dir.endsWith('/current');
        put(inPlace ? file : `${file}.krx`, randomBytes(size + 512), at);
        if (!inPlace) fs.rmSync(file);
        settleFolders(dir, at);
      }
    }
  };
  walk(`${folder}/archive`);
  walk(`${folder}/current`);
  const note = 'Your files have been encrypted. Pay into our wallet within 72 hours, or they are published.\n';
  put(`${folder}/archive/READ THIS.txt`, note, at);
}

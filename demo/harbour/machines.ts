import { readFileSync } from 'node:fs';
import path from 'node:path';
import type { BodyInput } from '@lithodex/contract';
import { DateTime } from 'luxon';
import { bereft, mailBetween } from './office';
import { berthLetter, roster, tideLog } from './contents';
import { Random } from './random';

/** Machines are there from this night on, when the platform was connected. */
export const platformNight = 53;
/** On the evening of this night a machine with the tag lands, one moves to another host, and one is given up. */
export const landingNight = 54;
/** So many days the password of the account lasts after the last morning. */
export const passwordDays = 19;

const GiB = 1 << 30;
export const harbourClusters = [
  {
    name: 'harbour-office',
    location: 'Harbour office',
    hosts: ['mole-1', 'mole-2', 'mole-3'],
    networks: ['quay-net', 'office-net', 'gate-net', 'proving-net'],
    isolated: ['proving-net'],
  },
  { name: 'lighthouse', location: 'Lighthouse station', hosts: ['rock-1'], networks: ['rock-net'] },
];
export const harbourStorages = [
  { name: 'basin-fast', capacity: 4e12, hosts: ['mole-1', 'mole-2', 'mole-3'], straight: true },
  { name: 'basin-bulk', capacity: 20e12, hosts: ['mole-1', 'mole-2', 'mole-3'] },
  { name: 'rock-store', capacity: 6e12, hosts: ['rock-1'] },
];

export interface HarbourMachine {
  readonly name: string;
  readonly host: string;
  readonly folder: string;
  readonly tags: readonly string[];
  readonly network: string;
  readonly storage?: string;
  /** GB of a second disk for data. */
  readonly dataGb?: number;
  readonly helper?: boolean;
  /** What its helper tells of what runs inside, beside what every machine runs. */
  readonly services?: readonly string[];
  readonly running?: boolean;
  readonly template?: boolean;
  /** More disks, by their label: images that ship, of file systems that people meet. */
  readonly images?: Readonly<Record<string, string>>;
  /** Works at night, so that its disks change. */
  readonly busy?: boolean;
}

const daily = 'class: daily';
const at = (host: string, folder: string, network: string) => ({ host, folder, network });
const gates = at('mole-1', '/Harbour/Gates', 'gate-net');
const traffic = at('mole-2', '/Harbour/Vessel traffic', 'quay-net');
const office = at('mole-3', '/Harbour/Office', 'office-net');
const rock = { ...at('rock-1', '/Lighthouse', 'rock-net'), storage: 'rock-store' };

export const harbourMachines: readonly HarbourMachine[] = [
  ...[1, 2, 3, 4].map((n) => ({ name: `gate-0${n}`, ...gates, tags: ['area: gates', daily], busy: n < 3 })),
  { name: 'gate-control', ...gates, tags: ['area: gates', daily], dataGb: 8, busy: true },
  { name: 'customs-desk-01', ...gates, tags: ['area: customs', daily] },
  { name: 'customs-desk-02', ...gates, tags: ['area: customs', daily] },
  { name: 'customs-queue', ...gates, tags: ['area: customs', daily], busy: true },
  { name: 'vts-console-01', ...traffic, tags: ['area: vessel traffic', daily], busy: true },
  { name: 'vts-console-02', ...traffic, tags: ['area: vessel traffic', daily] },
  { name: 'vts-recorder', ...traffic, tags: ['area: vessel traffic', daily], dataGb: 32, storage: 'basin-bulk', busy: true },
  { name: 'radar-link', ...traffic, tags: ['area: vessel traffic', daily], helper: false },
  { name: 'berth-planner', ...traffic, tags: ['area: berths', daily], busy: true },
  { name: 'berth-portal-01', ...traffic, tags: ['area: berths', daily], busy: true },
  { name: 'pilot-db', ...office, tags: ['area: pilots', daily], services: ['mariadbd'], dataGb: 16, busy: true },
  { name: 'pilot-desk', ...office, tags: ['area: pilots', daily] },
  { name: 'mail-relay', ...office, tags: ['area: office', daily], services: ['dovecot', 'postfix'] },
  { name: 'print-room', ...office, tags: ['area: office', daily], helper: false, images: { papers: 'ntfs' } },
  { name: 'invoice-01', ...office, tags: ['area: office', daily], dataGb: 8, images: { 'pool-a': 'lvm-a', 'pool-b': 'lvm-b' } },
  { name: 'old-fax', ...office, tags: ['area: office', daily], running: false },
  { name: 'test-bench', ...office, tags: ['area: office', daily, 'class: scratch'] },
  { name: 'tide-server', ...rock, tags: ['area: tides', daily], busy: true },
  { name: 'lamp-control', ...rock, tags: ['area: lighthouse', daily], helper: false },
  { name: 'fog-signal', ...rock, tags: ['area: lighthouse', daily] },
  // nobody gave these a tag
  { name: 'survey-desk', ...traffic, tags: [] },
  { name: 'crane-simulator', ...gates, tags: ['area: training'] },
  { name: 'visitor-wifi', ...office, tags: [] },
  { name: 'weather-mast', ...rock, tags: ['area: lighthouse'] },
  { name: 'linux-base', ...office, folder: '/Templates', tags: ['class: scratch'], template: true, running: false },
];

/** Lands with its tag after the policy was written. */
export const landing: HarbourMachine = { name: 'berth-portal-02', ...traffic, tags: ['area: berths', daily] };

/** Bytes of an image that ships. */
const imageBytes = 24 << 20;

/** An image that ships, packed, in base64. */
function imageThatShips(name: string): string {
  return readFileSync(path.resolve('packages/volumes/fixtures', `${name}.img.gz`)).toString('base64');
}

const text = (at: string, content: string | Buffer) => ({ path: at, content: Buffer.from(content).toString('base64') });

/** The mailbox of somebody as it was before mail moved to another server: it was left where it lay. */
function oldStore(now: number) {
  const until = DateTime.fromMillis(now).minus({ days: 40 });
  const mails = mailBetween(bereft, until.minus({ days: 25 }), until, 1, new Random(2025));
  const box = `/srv/vmail/${bereft.login}/Maildir`;
  const folderOf = (folder: string) => (folder === 'INBOX' ? box : `${box}/.${folder.replaceAll('/', '.')}`);
  return [
    ...[...new Set(mails.map((m) => folderOf(m.folder)).concat(box))].map((folder) => text(`${folder}/new/.keep`, '')),
    ...mails.map(({ folder, at, seen, text: content }, n) =>
      text(`${folderOf(folder)}/cur/${Math.floor(at / 1000)}.M${n}P1.mail-relay:2,${seen ? 'S' : ''}`, content),
    ),
  ];
}

/** What people tell the platform to make a machine. */
export function buildBody(m: HarbourMachine, random: Random, now: number): object {
  const storage = m.storage ?? 'basin-fast';
  const disks = [
    { label: 'system', size: 8 * GiB, storage: storage === 'rock-store' ? storage : 'basin-fast' },
    ...(m.dataGb ? [{ label: 'data', size: m.dataGb * GiB, storage }] : []),
    ...Object.keys(m.images ?? {}).map((label) => ({ label, size: imageBytes, storage })),
  ];
  const system = [
    text('/etc/hostname', `${m.name}\n`),
    text('/etc/motd', `This is ${m.name} of Kelmar Harbour.\n`),
    text('/var/log/boot.log', `${m.name} started\n`.repeat(200)),
    ...(m.name === 'mail-relay' ? oldStore(now) : []),
    ...Array.from({ length: 6 }, (_, i) => text(`/srv/letters/letter-${i}.txt`, berthLetter(random, i, new Date(now)))),
  ];
  const data = Array.from({ length: 8 }, (_, i) => text(`/records/record-${i}.csv`, tideLog(random, m.name, new Date(now))));
  return {
    name: m.name,
    host: m.host,
    folder: m.folder,
    tags: m.tags,
    template: m.template ?? false,
    running: m.running ?? true,
    helper: m.helper ?? true,
    services: ['cron', 'sshd', ...(m.services ?? [])],
    processors: m.dataGb ? 4 : 2,
    memory: m.dataGb ? 8192 : 4096,
    firmware: 'efi',
    system: 'Linux',
    networks: [m.network],
    note: '',
    disks,
    files: { system, data: m.dataGb ? data : [] },
    images: Object.fromEntries(Object.entries(m.images ?? {}).map(([label, image]) => [label, imageThatShips(image)])),
  };
}

/** What a busy machine writes in a day. */
export function workBody(m: HarbourMachine, random: Random, evening: number): object {
  const day = new Date(evening).toISOString().slice(0, 10);
  return { name: m.name, disk: 'system', files: [text(`/var/log/day-${day}.log`, roster(random, new Date(evening)))] };
}

type PolicyInput = BodyInput<'addPolicy'>;
type HarbourPolicy = Partial<PolicyInput> & { readonly runs: Partial<PolicyInput['rules'][number]> };

/** The policy by rule that protects the machines. */
export const machinePolicy = {
  name: 'Machines, nightly',
  rule: 'kind machine and tag "class: daily"',
  except: 'tag "class: scratch"',
  runs: { schedule: { every: 'day', at: '23:00' }, keep: { by: 'days', days: 21 } },
  window: { from: '23:00', to: '06:00' },
  objectiveHours: 26,
  namesInside: true,
} satisfies HarbourPolicy;

/** What is tried out, and what machines are made from, is kept for a while. */
export const scratchPolicy = {
  name: 'Scratch and templates',
  rule: 'tag "class: scratch"',
  except: '',
  runs: { schedule: { every: 'day', at: '02:30' }, keep: { by: 'points', points: 3 } },
  window: null,
  objectiveHours: 48,
} satisfies HarbourPolicy;

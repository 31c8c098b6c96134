import type { DateTime } from 'luxon';
import type { Random } from './random';

export const domain = 'kelmar-harbour.example';
/** The office tenant is connected; somebody leaves; everybody is protected each night from then on. */
export const officeNight = 20;
export const leavingNight = 24;
export const officePolicyNight = 55;

export interface OfficePerson {
  readonly login: string;
  readonly name: string;
  readonly group: 'pilots' | 'dredging' | 'gatehouse' | 'office';
}

const names: readonly (readonly [string, OfficePerson['group']])[] = [
  ['Ragna Holt', 'dredging'],
  ['Ivo Lind', 'dredging'],
  ['Mats Eide', 'dredging'],
  ['Sunniva Krag', 'dredging'],
  ['Halvor Stene', 'pilots'],
  ['Signe Aune', 'pilots'],
  ['Torben Lyng', 'pilots'],
  ['Runa Vik', 'pilots'],
  ['Kasper Moen', 'pilots'],
  ['Lone Fjell', 'pilots'],
  ['Bjarke Sund', 'pilots'],
  ['Nora Tind', 'gatehouse'],
  ['Emil Rask', 'gatehouse'],
  ['Vera Skog', 'gatehouse'],
  ['Jonas Bakke', 'gatehouse'],
  ['Ylva Berge', 'office'],
  ['Anders Lund', 'office'],
  ['Marit Dahl', 'office'],
  ['Peder Nes', 'office'],
  ['Hedda Strand', 'office'],
  ['Oskar Foss', 'office'],
  ['Tiril Haug', 'office'],
  ['Gustav Rud', 'office'],
];

const loginOf = (name: string) => name.toLowerCase().replaceAll(' ', '.');
export const officePeople: readonly OfficePerson[] = names.map(([name, group]) => ({ login: loginOf(name), name, group }));
/** Who left, and who took over. */
export const leaver = officePeople.find((p) => p.name === 'Peder Nes')!;
/** Whose folder a phone empties, and whose appointment was moved by mistake. */
export const bereft = officePeople[0]!;

/** Who asks the desk for mail that went, by the link it sent. */
export const asker = officePeople.find((p) => p.name === 'Sunniva Krag')!;

/** People and groups as the directory lists them. */
export function officeDirectory(left: boolean) {
  const people = officePeople.filter((p) => !left || p !== leaver);
  const groups = (['pilots', 'dredging', 'gatehouse', 'office'] as const).map((name) => ({
    name,
    members: people.filter((p) => p.group === name).map((p) => p.login),
  }));
  return {
    people: [
      ...people.map(({ login, name }) => ({ login, name, mail: `${login}@${domain}` })),
      { login: 'berth-desk', name: 'Berth desk', mail: `berths@${domain}`, shared: true },
    ],
    groups: [...groups, { name: 'harbour staff', members: groups.map((g) => g.name) }],
  };
}

const subjects = {
  dredging: [
    'Soundings berth 14, second pass',
    'Re: berth 14 dredging, spoil ground',
    'Berth 14: silt samples',
    'Hopper repairs',
    'Spoil ground, permit',
  ],
  pilots: ['Roster for next week', 'Boat 2 in the yard', 'Fog on Thursday', 'Re: outer mole, new light', 'Change of watch'],
  gatehouse: ['Gate passes for the barge crew', 'Barrier 3 stuck again', 'Visitors on Friday', 'Re: keys of the crane shed'],
  office: [
    'Minutes of the harbour board',
    'Invoices of October',
    'Re: tariff table, questions',
    'Canteen, new hours',
    'Yearly report, draft',
  ],
} as const;
const lines = [
  'the second pass is done and the depths are as we hoped.',
  'could you look at the attached plan before Thursday?',
  'the boat is back in the water from Monday on.',
  'we agreed on the phone that the crane stays until the tide turns.',
  'please keep the north gate open for the barge.',
  'nothing new from the yard; I will call them again.',
] as const;

export interface OfficeMail {
  readonly folder: string;
  readonly at: number;
  readonly seen: boolean;
  readonly flagged: boolean;
  readonly text: string;
}

let count = 0;

function mailTo(to: OfficePerson, at: DateTime, folder: string, subject: string, random: Random): OfficeMail {
  const from = random.pick(officePeople.filter((p) => p !== to && (random.chance(0.5) || p.group === to.group)));
  const head = [
    `Message-ID: <${++count}.${at.toMillis()}@${domain}>`,
    `Date: ${at.toRFC2822()}`,
    `From: ${from.name} <${from.login}@${domain}>`,
    `To: ${to.name} <${to.login}@${domain}>`,
    `Subject: ${subject}`,
    'MIME-Version: 1.0',
  ];
  const body = [
    `Dear ${to.name.split(' ')[0]},`,
    '',
    ...Array.from({ length: random.int(1, 4) }, () => random.pick(lines)),
    '',
    'Regards',
    from.name,
  ];
  const text = random.chance(0.2)
    ? withPlan(head, body, random)
    : [...head, 'Content-Type: text/plain; charset=utf-8', '', ...body, ''].join('\r\n');
  return { folder, at: at.toMillis(), seen: random.chance(0.8), flagged: random.chance(0.05), text };
}

function withPlan(head: readonly string[], body: readonly string[], random: Random): string {
  const rows = Array.from(
    { length: random.int(150, 600) },
    (_, i) => `${i + 1},${(random.next() * 12).toFixed(2)},${(random.next() * 400).toFixed(1)}`,
  );
  const data = Buffer.from(`point,depth m,distance m\n${rows.join('\n')}\n`)
    .toString('base64')
    .replace(/.{76}/g, '$&\r\n');
  const part = (more: readonly string[], content: string) => ['--=_plan', ...more, '', content].join('\r\n');
  return [
    ...head,
    'Content-Type: multipart/mixed; boundary="=_plan"',
    '',
    part(
      ['Content-Type: text/html; charset=utf-8'],
      `<html><body>${body.map((l) => `<p>${l}</p>`).join('')}<p><b>Depths</b> are in the table attached.</p></body></html>`,
    ),
    part(
      [
        'Content-Type: text/csv; name="soundings.csv"',
        'Content-Disposition: attachment; filename="soundings.csv"',
        'Content-Transfer-Encoding: base64',
      ],
      data,
    ),
    '--=_plan--',
    '',
  ].join('\r\n');
}

/** Mail that came between two moments. */
export function mailBetween(person: OfficePerson, from: DateTime, to: DateTime, aDay: number, random: Random): OfficeMail[] {
  const days = to.diff(from, 'days').days;
  return Array.from({ length: Math.max(1, Math.round(days * aDay)) }, () => {
    const at = from.plus({ minutes: random.int(0, Math.max(1, Math.floor(days * 1440) - 1)) });
    const subject = random.pick(subjects[person.group]);
    const berth = person.group === 'dredging' && /berth 14/i.test(subject);
    return mailTo(person, at, berth ? 'Dredging/Berth 14' : random.chance(0.15) ? 'Archive' : 'INBOX', subject, random);
  });
}

/** An appointment as calendars keep it. */
export const appointment = (
  uid: string,
  title: string,
  start: DateTime,
  minutes: number,
  place: string,
  people: readonly OfficePerson[],
  repeats = '',
): string =>
  [
    'BEGIN:VCALENDAR',
    'VERSION:2.0',
    'PRODID:-//Kelmar Harbour//Office//EN',
    'BEGIN:VEVENT',
    `UID:${uid}`,
    `DTSTAMP:${start.toUTC().toFormat("yyyyMMdd'T'HHmmss'Z'")}`,
    `DTSTART:${start.toUTC().toFormat("yyyyMMdd'T'HHmmss'Z'")}`,
    `DTEND:${start.plus({ minutes }).toUTC().toFormat("yyyyMMdd'T'HHmmss'Z'")}`,
    `SUMMARY:${title}`,
    `LOCATION:${place}`,
    ...people.map((p) => `ATTENDEE;CN=${p.name}:mailto:${p.login}@${domain}`),
    ...(repeats ? [`RRULE:${repeats}`] : []),
    'END:VEVENT',
    'END:VCALENDAR',
    '',
  ].join('\r\n');

export const contactCard = (uid: string, name: string, mail: string): string =>
  [
    'BEGIN:VCARD',
    'VERSION:3.0',
    `UID:${uid}`,
    `FN:${name}`,
    `N:${name.split(' ').reverse().join(';')};;;`,
    `EMAIL:${mail}`,
    'END:VCARD',
    '',
  ].join('\r\n');

/** Sites with their files and wiki pages. */
export const officeSites: Readonly<Record<string, Readonly<Record<string, string>>>> = {
  "Pilots' handbook": {
    'pages/Fog.md': '# Fog\n\nBelow 500 m of sight no vessel over 90 m enters.\nThe outer mole sounds twice a minute.\n',
    'pages/Boarding.md': '# Boarding\n\nLadder on the lee side, one metre above the water.\n',
    'pages/Start.md': '# Handbook of the pilots\n\n- [Fog](Fog.md)\n- [Boarding](Boarding.md)\n',
    'files/roster 2026.csv': 'week,boat,pilot\n47,1,Signe Aune\n47,2,Bjarke Sund\n48,1,Lone Fjell\n',
  },
  'Dredging works': {
    'pages/Start.md': '# Dredging works\n\nBerth 14 is dug from 24 to 27 November.\n',
    'pages/Spoil ground.md': '# Spoil ground\n\nTwo miles north of the lighthouse; report every load.\n',
    'files/plan berth 14.txt': 'Depth 9.5 m over the whole length, slope 1:3.\n',
  },
};

export const officePolicies = {
  all: { name: 'Office, every night', schedule: { every: 'day' as const, at: '21:30' }, keep: { by: 'days' as const, days: 60 } },
  dredging: { name: 'Dredging works, at ten and at two', times: ['10:00', '14:00'], keep: { by: 'days' as const, days: 14 } },
};

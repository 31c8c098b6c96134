/** The eight weeks of Kelmar Harbour: what is set up, and on which night something goes wrong. */
export const nights = 56;
/** The first four weeks were a trial with these servers; on this night the others were connected. */
export const trialServers: readonly string[] = ['charts-nas', 'harbour-office', 'pilot-rosters'];
export const connectNight = 28;
/** The night on which quay-disk was unplugged, and the one since which the appraisals can't be read. */
export const unpluggedNight = 38;
export const closedFolderNight = 50;
/** Since this night targets are pruned and verified by themselves. */
export const careNight = 45;
/** After this night the first cartridge of the vault is put on the shelf, and after the last night those that are full by then. */
export const shelfNight = 35;
/** After this night a sector of quay-disk fails; verification finds and heals it within a week. */
export const failingSectorNight = 45;

/** The restore clerk brings letters back; ais-relay is connected; plans are protected before they are converted. */
export const clerkNight = 33;
export const relayNight = 42;
/** The two servers of the machine room are connected; since a night two weeks ago one of them lacks what it starts with. */
export const roomNight = 38;
export const lostStartNight = 42;
export const plansNight = 45;
/** Since this night people are told by mail what happens. */
export const noticesNight = 51;
/** From then on the rosters are brought back every night, to see that they come back. */
export const proofNight = 49;
/** On the morning after this night Ole takes on what can't be read. */
export const takenOnNight = 53;

export const password = 'lanterns-at-dusk';
export const people = [
  { name: 'eva.vind', display: 'Eva Vind', role: 'administrator' },
  { name: 'sten.odda', display: 'Sten Odda', role: 'administrator' },
  { name: 'ole.brygge', display: 'Ole Brygge', role: 'operator' },
  { name: 'ilse.holm', display: 'Ilse Holm', role: 'clerk' },
  { name: 'rune.dam', display: 'Rune Dam', role: 'auditor' },
] as const;

/** Servers whose data the restore clerk may bring back. */
export const clerkRemit = ['harbour-office', 'pilot-rosters'];

export const policies = [
  {
    name: 'Server room, nightly',
    tags: ['room: server-room'],
    servers: [],
    schedule: { every: 'day', at: '22:00' },
    keep: { by: 'days', days: 21 },
    copies: [
      { to: 'north-store', rhythm: 'week', keep: { by: 'days', days: 60 }, lockDays: 21 },
      { to: 'vault', rhythm: 'week', keep: { by: 'days', days: 365 } },
    ],
    kind: 'incremental',
    synthetic: 'week',
    exclude: ['scratch/', '*.tmp'],
    times: { window: { from: '22:00', to: '06:00' } },
    changeLimit: 40,
  },
  {
    name: 'Chart archive, before dawn',
    tags: ['chart archive'],
    servers: [],
    schedule: { every: 'day', at: '04:00' },
    keep: { by: 'days', days: 60, longTerm: { weeks: 0, months: 12, years: 7, day: 1 } },
    copies: [
      { to: 'north-store', rhythm: 'every', keep: { by: 'days', days: 90 }, lockDays: 30 },
      { to: 'vault', rhythm: 'week', keep: { by: 'days', days: 365 } },
    ],
    kind: 'incremental',
    exclude: ['print-queue/'],
    times: { priority: 'first' },
    changeLimit: 20,
  },
  {
    name: 'Gates and customs, nightly',
    tags: ['gates', 'customs'],
    servers: [],
    schedule: { every: 'day', at: '01:00' },
    keep: { by: 'points', points: 30 },
    copies: [{ to: 'north-store', rhythm: 'week', keep: { by: 'points', points: 8 } }],
    kind: 'incremental',
    exclude: [],
    times: {},
    changeLimit: 60,
  },
  {
    name: 'Pilots, daily and twice a week in full',
    tags: [],
    servers: ['pilot-rosters'],
    schedule: { every: 'week', days: [3, 7], at: '03:00' },
    keep: { by: 'points', points: 12 },
    copies: [{ to: 'north-store', rhythm: 'every', keep: { by: 'points', points: 12 } }],
    kind: 'full',
    further: [{ no: 2, kind: 'incremental', schedule: { every: 'day', at: '03:00' }, keep: { by: 'days', days: 10 } }],
    exclude: [],
    times: { closed: ['01-01', '12-25'] },
    changeLimit: 60,
  },
] as const;

/** Who is told of what. */
export const notices = [
  { name: 'Faults, at once', about: { what: 'matters', level: 'fault' }, way: { by: 'mail', to: ['operators@kelmar.example'] } },
  {
    name: 'The morning',
    about: { what: 'digest', at: '07:00' },
    way: { by: 'mail', to: ['eva.vind@kelmar.example', 'ole.brygge@kelmar.example'] },
  },
  {
    name: 'Success, every week',
    about: { what: 'report', report: 'success', every: 'week', at: '07:30' },
    way: { by: 'mail', to: ['board@kelmar.example'] },
  },
] as const;

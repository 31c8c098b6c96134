import type {
  Estate,
  KnownMover,
  NightTask,
  Point,
  PolicyBody,
  PolicyRule,
  RunDetail,
  RunRow,
  Target,
  TaskRow,
  TreeRow,
  Version,
  Watch,
  WorkloadDetail,
  WorkloadRow,
} from '@lithodex/contract';
import { day, hour, minute, now } from './stage';

/** Made-up rows in the contract's shapes; every test says only what it is about. */
export const uuid = (n: number) => `00000000-0000-4000-8000-${String(n).padStart(12, '0')}`;

export const workload = (id: number, more: Partial<WorkloadRow> = {}): WorkloadRow => ({
  id,
  name: `quay-${id}`,
  kind: 'files',
  machine: null,
  facts: null,
  inside: null,
  gone: null,
  source: { id: id + 100, name: `quay-${id}`, location: 'Server room', folder: `/srv/quay-${id}` },
  tags: [],
  policies: [{ id: 1, name: 'Nightly' }],
  coverage: 'protected',
  newestPoint: { id: uuid(id), moment: now - 11 * hour, bytes: 4e9, items: 1200 },
  points: 30,
  objectiveHours: 24,
  late: false,
  oldestPoint: now - 30 * day,
  ...more,
});

export const estate = (workloads: readonly WorkloadRow[]): Estate => {
  const count = (coverage: string) => workloads.filter((w) => w.coverage === coverage).length;
  return {
    asOf: null,
    workloads: [...workloads],
    counts: {
      all: workloads.length,
      none: count('none'),
      matched: count('matched'),
      protected: count('protected'),
      suspect: count('suspect'),
      late: workloads.filter((w) => w.late).length,
      gone: workloads.filter((w) => w.gone !== null).length,
    },
    total: workloads.length,
    nodes: [],
    tags: [],
  };
};

/** Answers as the server does: by coverage, tag and text. */
export const estateOf =
  (workloads: readonly WorkloadRow[]) =>
  ({ query = {} }: { query?: Record<string, unknown> }): Estate => {
    const text = typeof query['q'] === 'string' ? query['q'].toLowerCase() : '';
    const fits = workloads.filter(
      (w) =>
        (!query['show'] || (query['show'] === 'late' ? w.late : w.coverage === query['show'])) &&
        (!query['tag'] || w.tags.includes(query['tag'] as string)) &&
        w.name.includes(text),
    );
    const from = Number(query['offset'] ?? 0);
    return { ...estate(workloads), workloads: fits.slice(from, from + Number(query['limit'] ?? 200)), total: fits.length };
  };

export const machineFacts: NonNullable<WorkloadRow['machine']> = {
  cluster: 'harbour',
  location: 'Harbour office',
  host: 'mole-1',
  folder: '/Harbour/Gates',
  networks: ['quay'],
  template: false,
  running: true,
  helper: false,
  system: 'Linux',
  services: [],
  processors: 2,
  memory: 2048,
  disks: [{ id: 'd-1', label: 'system', size: 8e9, storage: 'fast' }],
  cloud: null,
};

export const point = (id: number, moment: number, more: Partial<Point> = {}): Point => ({
  id: uuid(id),
  seriesId: uuid(9),
  workloadId: 1,
  runId: id,
  moment,
  kind: 'incremental',
  copies: [
    { targetId: uuid(1), target: 'quay-disk', madeAt: moment, lockedUntil: null, keepUntil: moment + 30 * day, keepWhy: 'kept 30 days' },
  ],
  policy: 'Nightly',
  buildsOn: moment - day,
  items: 100,
  files: 90,
  bytes: 5e9,
  read: 2e6,
  fresh: 1e6,
  stored: 5e5,
  added: 3,
  changed: 4,
  removed: 5,
  warnings: 0,
  complete: true,
  unusual: 2,
  reasons: [],
  suspect: false,
  held: false,
  heldWhy: '',
  machine: null,
  facts: null,
  expired: false,
  onStorage: null,
  ...more,
});

export const workloadDetail = (points: readonly Point[], more: Partial<WorkloadDetail> = {}): WorkloadDetail => ({
  ...workload(1),
  readAs: null,
  readBy: null,
  readers: null,
  wholeServer: false,
  frozen: false,
  seriesId: uuid(9),
  allBytes: 2e11,
  storedBytes: 9e9,
  pointList: [...points],
  missing: [],
  damage: null,
  spread: { copies: 3, media: 2, elsewhere: 1, locked: 1, gaps: [] },
  ...more,
});

export const treeRow = (name: string, more: Partial<TreeRow> = {}): TreeRow => ({
  name,
  path: name,
  kind: 'file',
  size: 1000,
  items: 1,
  mtimeNs: String(BigInt(now - day) * 1_000_000n),
  mode: 0o644,
  uid: 0,
  gid: 0,
  unread: false,
  about: '',
  opens: false,
  random: false,
  since: 'same',
  strip: null,
  versions: 1,
  lastGood: null,
  ...more,
});

export const version = (id: number, moment: number, more: Partial<Version> = {}): Version => ({
  pointId: uuid(id),
  moment,
  lastMoment: moment,
  points: 1,
  size: 1000,
  mtimeNs: '0',
  mode: 0o644,
  kind: 'file',
  random: false,
  unread: false,
  suspect: false,
  ended: 'still',
  ...more,
});

const counts = { items: 1000, files: 900, bytes: 8e9, read: 4e8, stored: 1e8, warnings: 0, failed: 0 };

export const run = (id: number, more: Partial<RunRow> = {}): RunRow => ({
  id,
  kind: 'backup',
  pointKind: 'incremental',
  state: 'done',
  trigger: 'schedule',
  policy: { id: 1, name: 'Nightly' },
  workloads: [{ id: 1, name: 'quay-1' }],
  workloadCount: 1,
  by: 'the schedule',
  name: 'Nightly',
  queuedAt: now - 11 * hour,
  startedAt: now - 11 * hour,
  endedAt: now - 11 * hour + 4 * minute,
  counts,
  progress: null,
  cause: null,
  ...more,
});

export const task = (id: number, more: Partial<TaskRow> = {}): TaskRow => ({
  id: uuid(id),
  workload: { id, name: `quay-${id}` },
  state: 'done',
  attempt: 1,
  mover: 'mover-1',
  startedAt: now - 11 * hour,
  endedAt: now - 11 * hour + 2 * minute,
  progress: null,
  phases: [],
  counts,
  rate: null,
  cause: null,
  pointId: uuid(id + 50),
  buildsOn: null,
  stopRequested: false,
  ...more,
});

export const runDetail = (id: number, tasks: readonly TaskRow[], more: Partial<RunDetail> = {}): RunDetail => ({
  ...run(id),
  tasks: [...tasks],
  earlier: [],
  reason: '',
  rules: '',
  downloadReady: false,
  after: null,
  ...more,
});

export const nightTask = (id: number, more: Partial<NightTask> = {}): NightTask => ({
  runId: id,
  workload: { id, name: `quay-${id}` },
  policy: 'Nightly',
  state: 'failed',
  startedAt: now - 11 * hour,
  endedAt: now - 10 * hour,
  attempts: 1,
  remark: 'the target is full',
  ...more,
});

export const watch = (more: Partial<Watch> = {}): Watch => ({
  putOff: [],
  people: [],
  now,
  zone: 'UTC',
  from: now - 12 * hour,
  lead: { protected: 9, all: 12, parts: [] },
  facts: {
    newestBytes: 4e11,
    storedBytes: 2e11,
    oldestNewest: null,
    nightMs: null,
    usualNightMs: null,
    reduction: null,
    lastRestore: null,
  },
  deviants: [],
  groups: [{ name: 'Nightly', note: '9 workloads', now: [0, 1, 2, 0], usual: [0, 1, 1, 0] }],
  slotMs: 3 * hour,
  quiet: 9,
  matters: [],
  coming: [],
  ...more,
});

export const target = (id: number, more: Partial<Target> = {}): Target => ({
  id: uuid(id),
  name: `disk-${id}`,
  place: { kind: 'folder', folder: `/mnt/disk-${id}` },
  location: 'Server room',
  used: 2e11,
  free: 6e11,
  measuredAt: now - hour,
  prunedAt: null,
  verifiedAt: null,
  points: 40,
  allBytes: 9e11,
  storedBytes: 2e11,
  outlook: null,
  paces: [],
  writers: null,
  newestFiles: false,
  settingsAt: now - hour,
  settingsHeld: false,
  envelopeAt: now,
  follows: null,
  ownedElsewhere: null,
  followed: [],
  retiredTo: null,
  prices: null,
  trouble: null,
  ...more,
});

/** A policy of one rule. `more`: what it says otherwise, of the rule or of all. */
export const policyBody = (more: Partial<PolicyBody & PolicyRule> = {}): PolicyBody => {
  const { no, kind, synthetic, schedule, keep, targetId, lockDays, copies, ...shared } = more;
  const said = { no, kind, synthetic, schedule, keep, targetId, lockDays, copies };
  const rule: PolicyRule = {
    no: 1,
    kind: 'incremental',
    synthetic: null,
    schedule: { every: 'day', at: '22:00' },
    keep: { by: 'days', days: 30 },
    targetId: uuid(1),
    lockDays: null,
    objectiveMinutes: null,
    parts: [],
    copies: [],
    ...Object.fromEntries(Object.entries(said).filter(([, value]) => value !== undefined)),
  };
  return {
    namesInside: false,
    name: 'Nightly',
    workloads: [1],
    tags: [],
    rule: '',
    except: '',
    rules: [rule],
    zone: 'UTC',
    window: null,
    closed: [],
    retries: { times: 0, pauseMinutes: 30 },
    catchUp: true,
    priority: 'usual',
    include: [],
    exclude: [],
    objectiveHours: 24,
    scripts: { before: null, after: null, minutes: 15 },
    changeLimit: 40,
    ...shared,
  };
};

/** A mover that is at work. */
export const mover = (name: string, more: Partial<KnownMover> = {}): KnownMover => ({
  name,
  present: true,
  firstSeen: now - 100 * hour,
  lastSeen: now,
  drained: false,
  tasks: 2,
  place: 'Harbour office',
  duties: ['capture', 'keep'],
  hardware: { processors: 8, memory: 16e9, system: 'Linux 6.1' },
  latest: { processor: 0.42, memory: 0.61, received: 1_200_000, sent: null, read: 0, written: 5e6 },
  running: 1,
  reads: [],
  ...more,
});

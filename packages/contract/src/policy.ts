import { z } from 'zod';
import { ClockTime, Count, Id, Instant, Name, Named, Uuid } from './common';
import { tenantTopNames } from '@lithodex/kinds';
import { FitOutcome } from './plan';

/** A day of the month, the last one in months that are shorter; or the nth of a weekday, where 5 is the last. */
const MonthDay = z.union([
  z.object({ day: z.int().min(1).max(31) }),
  z.object({ nth: z.int().min(1).max(5), weekday: z.int().min(1).max(7) }),
]);
export const Schedule = z.discriminatedUnion('every', [
  z.object({ every: z.literal('day'), at: ClockTime }),
  z.object({ every: z.literal('week'), days: z.array(z.int().min(1).max(7)).min(1).max(7), at: ClockTime }),
  z.object({ every: z.literal('hours'), hours: z.union([1, 2, 3, 4, 6, 8, 12].map((n) => z.literal(n))), at: ClockTime }),
  z.object({ every: z.literal('month'), on: MonthDay, at: ClockTime }),
  z.object({ every: z.literal('minutes'), minutes: z.union([1, 2, 5, 10, 15, 20, 30].map((n) => z.literal(n))) }),
  /** So many minutes past each hour. */
  z.object({
    every: z.literal('hour'),
    past: z
      .array(z.int().min(0).max(59))
      .min(1)
      .max(12)
      .transform((minutes) => [...new Set(minutes)].sort((a, b) => a - b)),
  }),
  /** All the time: the next run begins when the one before has ended and so many minutes have passed. */
  z.object({ every: z.literal('continuous'), pauseMinutes: z.union([5, 10, 15, 30, 60].map((n) => z.literal(n))) }),
  /** Without a pause: only a log, which is followed. */
  z.object({ every: z.literal('moment') }),
  /** When a run of another policy has ended well. */
  z.object({ every: z.literal('after'), policyId: Id }),
  z.object({ every: z.literal('hand') }),
]);
/** The first point of each week, month and year is kept for so many of them. */
export const LongTerm = z.object({
  weeks: z.int().min(0).max(520).default(0),
  months: z.int().min(0).max(240).default(0),
  years: z.int().min(0).max(100).default(0),
  /** ISO weekday on which a week begins. */
  day: z.int().min(1).max(7).default(1),
});
export type LongTerm = z.infer<typeof LongTerm>;
export const Keep = z.discriminatedUnion('by', [
  z.object({ by: z.literal('days'), days: z.int().min(1).max(36_500), longTerm: LongTerm.optional() }),
  z.object({ by: z.literal('points'), points: z.int().min(1).max(100_000), longTerm: LongTerm.optional() }),
  z.object({ by: z.literal('hand') }),
]);
export const Pattern = z.string().trim().min(1).max(500);
/** See the kinds of run in docs/kinds-of-run.md. */
export const PointKind = z.enum(['full', 'incremental', 'differential', 'synthetic', 'log']);
export type PointKind = z.infer<typeof PointKind>;

/** Zones that were asked for and exist: to make a formatter takes long, and policies are read often. Names have many spellings, so there is an end to it. */
const knownZones = new Set<string>();
const mostZones = 1000;
const zoneExists = (zone: string) => {
  if (knownZones.has(zone)) return true;
  try {
    new Intl.DateTimeFormat('en', { timeZone: zone });
    if (knownZones.size < mostZones) knownZones.add(zone);
    return true;
  } catch {
    return false;
  }
};

export const copyRhythms = ['every', 'day', 'week'] as const;
/** For how many days of its life nobody can remove a point; null for no lock. */
export const LockDays = z.int().min(1).max(3650).nullable();
/** Where points are copied to: every new one, or the newest once a day or week. */
export const CopyRule = z.object({
  targetId: Uuid,
  rhythm: z.enum(copyRhythms).default('every'),
  keep: Keep,
  lockDays: LockDays.default(null),
});
export type CopyRule = z.infer<typeof CopyRule>;

/** Hours in which runs may start; `stop` ends at its end what still runs. */
export const RunWindow = z.object({ from: ClockTime, to: ClockTime, stop: z.boolean().default(false) });
export type RunWindow = z.infer<typeof RunWindow>;
/** How often, and how long after its end, what failed in a run is tried again. */
export const Retries = z.object({ times: z.int().min(0).max(10), pauseMinutes: z.int().min(1).max(1440) });
export type Retries = z.infer<typeof Retries>;
const dayExists = (day: string) =>
  !Number.isNaN(Date.parse(`${day.length === 5 ? '2024-' : ''}${day}T00:00:00Z`)) && !/-02-3|-(04|06|09|11)-31/.test(`-${day}`);
/** A date, or a day of every year: 2027-05-17, 12-25. */
export const ClosedDay = z
  .string()
  .regex(/^(\d{4}-)?(0[1-9]|1[0-2])-(0[1-9]|[12]\d|3[01])$/)
  .refine(dayExists, 'not a day');
export const priorities = ['first', 'usual', 'last'] as const;

/** Name of a file in the scripts folder of a mover. */
export const ScriptName = z.string().regex(/^[A-Za-z0-9][A-Za-z0-9._-]{0,79}$/, 'letters, digits, dots, dashes and underlines');
/** What runs on the mover before and after each workload, and for how long at most. */
export const Scripts = z.object({
  before: ScriptName.nullable().default(null),
  after: ScriptName.nullable().default(null),
  minutes: z.int().min(1).max(240).default(15),
});
export type Scripts = z.infer<typeof Scripts>;

const RuleText = z.string().trim().max(2000).default('');

/** One of the things a policy does: a kind of run, when, where to, and for how long its points are kept. */
export const PolicyRule = z.object({
  /** Tells it apart from the others of its policy for good, as runs and points remember it. */
  no: z.int().min(1).max(255),
  kind: PointKind.exclude(['synthetic']),
  /** How often a full is put together on the target: with the first point of each week or month that has none. */
  synthetic: z.enum(['week', 'month']).nullable().default(null),
  schedule: Schedule,
  keep: Keep,
  targetId: Uuid,
  lockDays: LockDays.default(null),
  copies: z.array(CopyRule).max(4).default([]),
  /** Of a log: how old the newest second that can be reached may be, in minutes; null where nobody said. */
  objectiveMinutes: z.int().min(1).max(10_080).nullable().default(null),
  /** Of people and sites: folders at the top of their points that are read, the others stay as they were read last; none for all. */
  parts: z.array(z.enum(tenantTopNames)).max(tenantTopNames.length).default([]),
});
export type PolicyRule = z.infer<typeof PolicyRule>;
/** What reads more of the source comes first. */
const kindsByWeight: readonly PolicyRule['kind'][] = ['full', 'differential', 'incremental', 'log'];

/** Rules in the order in which they start when they come due together. */
export function heaviestFirst<R extends Pick<PolicyRule, 'kind' | 'parts'>>(rules: readonly R[]): R[] {
  const partsOf = ({ parts }: R) => parts.length || tenantTopNames.length;
  return [...rules].sort((a, b) => kindsByWeight.indexOf(a.kind) - kindsByWeight.indexOf(b.kind) || partsOf(b) - partsOf(a));
}

/** Whether a rule that starts with another takes the point for it as well. */
export const takesFor = (
  taker: Pick<PolicyRule, 'kind' | 'targetId' | 'parts'>,
  other: Pick<PolicyRule, 'kind' | 'targetId' | 'parts'>,
): boolean =>
  taker.kind !== 'log' &&
  other.kind !== 'log' &&
  taker.targetId === other.targetId &&
  (!taker.parts.length || (other.parts.length > 0 && other.parts.every((part) => taker.parts.includes(part))));

export const mostRules = 6;

/** A list of rules, each with a number of its own. */
export const rulesOf = <T extends z.ZodType<Pick<PolicyRule, 'no' | 'kind' | 'schedule' | 'lockDays' | 'parts'>>>(rule: T) =>
  z
    .array(rule)
    .min(1)
    .max(mostRules)
    .refine((rules) => new Set(rules.map((r) => r.no)).size === rules.length, 'two rules have the same number')
    .refine((rules) => rules.every((r) => r.schedule.every !== 'moment' || r.kind === 'log'), 'only a log can be taken at every moment')
    .refine((rules) => rules.every((r) => !r.parts.length || r.kind === 'incremental'), 'only an incremental leaves parts as they were')
    .refine(
      (rules) => rules.every((r) => r.schedule.every !== 'moment' || r.lockDays === null),
      'points that follow each other within seconds can not be locked: lock their copies',
    );

const ofOneRule = ['kind', 'synthetic', 'schedule', 'keep', 'targetId', 'lockDays', 'copies', 'objectiveMinutes', 'follows'];

/** A stored policy as it is said today: once, a policy was a single rule and had its fields itself. */
export function withRules(stored: unknown): unknown {
  if (typeof stored !== 'object' || stored === null || 'rules' in stored || !('schedule' in stored)) return stored;
  const entries = Object.entries(stored);
  const [own, shared] = [true, false].map((of) => Object.fromEntries(entries.filter(([name]) => ofOneRule.includes(name) === of)));
  return { ...shared, rules: [{ no: 1, ...own }] };
}

export const PolicyBody = z.object({
  name: Name,
  /** What is protected: workloads one by one, and every workload with one of these tags. */
  workloads: z.array(Id).max(5000),
  tags: z.array(Name).max(50),
  /** Further ones by a rule such as `source quay-* and not tag test` (see the core's rules); '' for none. */
  rule: RuleText,
  /** What of all that is left out, by such a rule. */
  except: RuleText,
  rules: rulesOf(PolicyRule),
  zone: z.string().max(60).refine(zoneExists, 'not a time zone'),
  window: RunWindow.nullable().default(null),
  /** Local days on which it does not run. */
  closed: z.array(ClosedDay).max(100).default([]),
  retries: Retries.default({ times: 0, pauseMinutes: 30 }),
  /** Whether a run whose time passed (nothing could start it, or its window was closed) is made good as soon as may be. */
  catchUp: z.boolean().default(true),
  /** Who goes first when movers are short. */
  priority: z.enum(priorities).default('usual'),
  include: z.array(Pattern).max(200).default([]),
  exclude: z.array(Pattern).max(200).default([]),
  scripts: Scripts.default({ before: null, after: null, minutes: 15 }),
  /** Whether names inside the disks of machines go to the catalog with each point. */
  namesInside: z.boolean().default(false),
  /** How old the newest good point may be, in hours. */
  objectiveHours: z.int().min(1).max(10_000).default(24),
  /** Share of files, in per cent, that may change before a point is taken but held as suspect. */
  changeLimit: z.int().min(1).max(100).default(40),
});
export type PolicyBody = z.infer<typeof PolicyBody>;

export const Policy = z.object({
  id: Id,
  body: PolicyBody,
  matches: z.array(Named),
  nextRun: Instant.nullable(),
  lastRun: Instant.nullable(),
  points: Count,
});
export type Policy = z.infer<typeof Policy>;

export const PolicyDetail = Policy.extend({
  /** The highest number that a rule of it ever had: a new one gets a higher one, as points remember theirs. */
  newestRule: Count,
});
export type PolicyDetail = z.infer<typeof PolicyDetail>;

/** What new policies start from: the policy a person chose for it, without its name and without what it protects; null where none was. */
export const PolicyStart = z.object({
  policyId: Id.nullable(),
  terms: PolicyBody.omit({ name: true, workloads: true, tags: true, rule: true, except: true }).nullable(),
});
export type PolicyStart = z.infer<typeof PolicyStart>;

/** What a policy said from an instant on. */
export const PolicyVersion = z.object({ no: Count, at: Instant, by: z.string(), body: PolicyBody });
export type PolicyVersion = z.infer<typeof PolicyVersion>;

/** What a draft would do, compared with what is in force. */
export const Consequences = z.object({
  matches: z.array(
    Named.extend({
      why: z.string(),
      alsoBy: z.array(z.string()),
      /** It did not match when the policy last ran or was put in force. */
      fresh: z.boolean(),
    }),
  ),
  /** What matched when the policy last ran or was put in force, and does no more. */
  gone: z.array(Named),
  zone: z.string(),
  nextRuns: z.array(Instant),
  /** `ages` in days, youngest first, for drawing. */
  settled: z.object({ points: Count.nullable(), furthestDays: z.number().nullable(), ages: z.array(z.number()), arithmetic: z.string() }),
  settledNow: z.object({ points: Count.nullable(), furthestDays: z.number().nullable(), ages: z.array(z.number()) }).nullable(),
  /** Points standing now that the draft's retention would let go at once. */
  deletes: z.object({ points: Count, oldest: Instant.nullable(), newest: Instant.nullable(), workloads: z.array(z.string()) }),
  leftOut: z.array(z.object({ path: z.string(), why: z.string() })),
  /** Which promises to points that stand it would break, so that a second person has to agree; '' for none. */
  secondPerson: z.string(),
  /** Measured from earlier points. */
  measured: z.object({
    runs: Count,
    sizeBytes: z.number(),
    newBytesPerRun: z.number().nullable(),
    targetFree: z.number().nullable(),
    nightMs: z.number().nullable(),
  }),
  /** How the next 24 hours would go with it, beside how they will go as it is. */
  fit: z.object({ draft: FitOutcome, inForce: FitOutcome, tasks: Count }),
  warnings: z.array(z.object({ code: z.string(), text: z.string() })),
  /** What the worst placed workload lacks to three copies, two kinds of media, one elsewhere and one locked. */
  spreadGaps: z.array(z.string()),
});
export type Consequences = z.infer<typeof Consequences>;

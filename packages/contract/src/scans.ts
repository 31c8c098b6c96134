import { z } from 'zod';
import { KindName } from '@lithodex/kinds';
import { Bytes, ByteString, Count, Empty, EscapedPath, Id, Instant, Name, page, QueryId, Uuid } from './common';
import { everyRole, keepers, readers, runners } from './roles';
import { byId, byUuid, route } from './route';

export const Grade = z.enum(['suspect', 'infected']);
export const VerdictName = z.enum(['unscanned', 'nothing', 'clean', 'suspect', 'infected']);
/** Most characters of a file of rules. */
export const mostRuleText = 200_000;
const RuleText = z.string().min(1).max(mostRuleText);

/** A file of rules, in the open language of YARA. */
export const RuleSource = z.object({ name: Name, text: RuleText });
export type RuleSource = z.infer<typeof RuleSource>;

/** What one rule found in one item. `within`: where inside the item, '' for the item itself. `sum`: SHA-256 of the item, '' where it could not be made. */
export const ScanFind = z.object({
  path: ByteString,
  within: z.string().max(2000),
  rule: z.string().max(200),
  about: z.string().max(500),
  grade: Grade,
  size: Bytes,
  sum: z.string().regex(/^([0-9a-f]{64})?$/),
});
export type ScanFind = z.infer<typeof ScanFind>;
/** Finds of one point that are kept, the others are counted. */
export const mostFinds = 5000;
/** An item that could not be looked into, or not into all of it. */
export const ScanNote = z.object({ path: ByteString, why: z.string().max(300) });
export type ScanNote = z.infer<typeof ScanNote>;
export const mostNotes = 20_000;

/** What stands in a file by one pattern; `sample`: the first of them, covered but for its end. */
export const SensitiveCountRow = z.object({ pattern: z.string().max(60), count: Count, sample: z.string().max(60) });
/** A file whose content changed, with its sum (SHA-256, '' where it is not told) and what stands in it now. */
export const SeenFile = z.object({
  path: ByteString,
  size: Bytes,
  sum: z.string().regex(/^([0-9a-f]{64})?$/),
  owner: z.string().max(120),
  mode: Count,
  counts: z.array(SensitiveCountRow).max(60),
});
export type SeenFile = z.infer<typeof SeenFile>;

/** What is told of the files of a point: their sums, what is sensitive in them, or both. */
export const Tells = z.object({ sums: z.boolean(), sensitive: z.boolean() });
export type Tells = z.infer<typeof Tells>;

/** Files of a point that were looked into. `gone`: those that changed or went; `goneBelow`: all that lay in them. `whole`: what was told before counts for nothing. */
export const FilesSeen = z.object({
  attempt: z.int().positive(),
  pointId: Uuid,
  seq: Count,
  tells: Tells,
  whole: z.boolean(),
  files: z.array(SeenFile).max(5000),
  gone: z.array(ByteString).max(5000),
  goneBelow: z.array(ByteString).max(1000),
});
/** A point was looked into. `toldAll`: there are no finds and notes beside those that are told. */
export const PointScanned = z.object({
  attempt: z.int().positive(),
  pointId: Uuid,
  items: Count,
  bytes: Bytes,
  read: Bytes,
  notLooked: Count,
  suspect: Count,
  infected: Count,
  finds: z.array(ScanFind).max(mostFinds),
  notes: z.array(ScanNote).max(mostNotes),
  toldAll: z.boolean(),
  /** Whether sensitive data was looked for too, and sums were made of all contents. */
  sensitive: z.boolean(),
  summed: z.boolean(),
});

/** What rules say when they are tried: what is wrong in them, or what they find in a sample. */
export const RulesTried = z.object({
  problem: z.object({ message: z.string(), line: Count }).nullable(),
  finds: z.array(z.object({ rule: z.string(), about: z.string(), grade: Grade })),
});
export type RulesTried = z.infer<typeof RulesTried>;

/** When points are scanned by themselves. `fromScore`: from which score of unusual change on, where it is by that. */
export const ScanSettings = z.object({
  when: z.enum(['never', 'unusual', 'always']),
  fromScore: z.int().min(1).max(100).default(40),
  /** Points are scanned again when rules are newer: the newest of each workload, or all; what did not change is not read again. */
  again: z.enum(['newest', 'all']).default('newest'),
  /** Name of a scanner that movers run, as their own settings name it; '' for none. */
  scanner: z.string().max(60).default(''),
  /** Whether sensitive data is looked for too. */
  sensitive: z.boolean().default(false),
});
export type ScanSettings = z.infer<typeof ScanSettings>;

export const RuleFileRow = z.object({
  id: Id,
  name: Name,
  text: z.string(),
  on: z.boolean(),
  /** It came with the product. */
  ships: z.boolean(),
  version: Count,
  changedAt: Instant,
  by: z.string(),
});
export type RuleFileRow = z.infer<typeof RuleFileRow>;

export const ScannedWorkload = z.object({
  id: Id,
  name: z.string(),
  kind: KindName,
  points: Count,
  /** Of the newest point. */
  verdict: VerdictName,
  newest: z.object({ id: Uuid, moment: Instant }),
  scanned: z.object({ at: Instant, rulesAt: Instant, notLooked: Count }).nullable(),
  lastClean: z.object({ id: Uuid, moment: Instant, verdict: VerdictName }).nullable(),
  /** Points by verdict. */
  infected: Count,
  suspect: Count,
  unscanned: Count,
});
export type ScannedWorkload = z.infer<typeof ScannedWorkload>;

export const Scans = z.object({
  settings: ScanSettings,
  /** The set of rules in force: since when, how many files of rules. */
  rules: z.object({ at: Instant, on: Count }),
  rows: z.array(ScannedWorkload),
  /** Newest points by verdict. */
  newest: z.record(VerdictName, Count),
});
export type Scans = z.infer<typeof Scans>;

/** What was found, by content: the same bytes in however many places and points. */
export const FoundContent = z.object({
  sum: z.string(),
  rule: z.string(),
  about: z.string(),
  grade: Grade,
  size: Bytes,
  firstSeen: Instant,
  lastSeen: Instant,
  /** It is in the newest point of a workload. */
  stillThere: z.boolean(),
  points: Count,
  places: z.array(
    z.object({
      workload: z.object({ id: Id, name: z.string() }),
      path: EscapedPath,
      within: z.string(),
      first: z.object({ id: Uuid, moment: Instant }),
      last: z.object({ id: Uuid, moment: Instant }),
      points: Count,
    }),
  ),
  otherPlaces: Count,
});
export type FoundContent = z.infer<typeof FoundContent>;

export const PointScanRow = z.object({
  verdict: VerdictName,
  scanned: z
    .object({ at: Instant, rulesAt: Instant, items: Count, bytes: Bytes, read: Bytes, notLooked: Count, suspect: Count, infected: Count })
    .nullable(),
  finds: z.array(ScanFind.extend({ path: EscapedPath })),
  lastClean: z.object({ id: Uuid, moment: Instant, verdict: VerdictName }).nullable(),
});
export type PointScanRow = z.infer<typeof PointScanRow>;

/** Sums that are searched for at once. */
export const mostSums = 2000;
/** A content that is searched for by its sum, wherever it is or was; the places that came last first. */
export const Trace = z.object({
  sum: z.string(),
  places: z.array(
    z.object({
      workload: z.object({ id: Id, name: z.string() }),
      path: EscapedPath,
      size: Bytes,
      firstSeen: Instant,
      /** When it was gone or otherwise; null where it is in the newest point. */
      goneAt: Instant.nullable(),
      /** The newest point that still holds it; null where none does any more. */
      point: z.object({ id: Uuid, moment: Instant }).nullable(),
    }),
  ),
});
export type Trace = z.infer<typeof Trace>;
/** `looked`: workloads of whose newest points all contents are known by their sums, of all that have points. `more`: there are more places than are told. */
export const Traces = z.object({
  rows: z.array(Trace),
  /** Sums of which there is no trace. */
  nowhere: z.array(z.string()),
  more: z.boolean(),
  looked: z.object({ workloads: Count, of: Count }),
});
export type Traces = z.infer<typeof Traces>;

/** Points to scan: of these workloads, taken in this time; the newest of each where no time is said. */
export const ScanRequest = z.object({
  workloads: z.array(Id).min(1).max(5000),
  from: Instant.nullable().default(null),
  to: Instant.nullable().default(null),
});

export const scanRoutes = {
  listScans: route({
    method: 'get',
    path: '/scans',
    summary: 'What is known against the points of each workload, and by which rules',
    access: readers,
    response: Scans,
  }),
  listFinds: route({
    method: 'get',
    path: '/scan-finds',
    summary: 'What scans found, by content, with every place and point it is in; by sum, rule or name where one searches for traces',
    access: readers,
    query: z.object({
      q: z.string().max(300).optional(),
      hours: z.coerce.number().int().min(1).max(876_000).optional(),
      workload: QueryId.optional(),
    }),
    response: page(FoundContent),
  }),
  findTraces: route({
    method: 'post',
    path: '/traces',
    summary: 'Where contents of these sums (SHA-256) are, or were, over all history that was scanned; reads nothing anew',
    access: readers,
    body: z.object({
      sums: z
        .array(z.string().regex(/^[0-9a-f]{64}$/))
        .min(1)
        .max(mostSums),
    }),
    response: Traces,
  }),
  pointScan: route({
    method: 'get',
    path: '/points/:id/scan',
    summary: 'What a scan said of a point, and the last clean one of its workload',
    access: everyRole,
    params: byUuid,
    response: PointScanRow,
  }),
  startScan: route({
    method: 'post',
    path: '/scans',
    summary: 'Scan points: only backups are read, and each content once',
    access: runners,
    body: ScanRequest,
    response: z.object({ runId: Id }),
  }),
  changeScanSettings: route({
    method: 'put',
    path: '/scan-settings',
    summary: 'Say when points are scanned by themselves, and by what',
    access: keepers,
    body: ScanSettings,
    response: Empty,
  }),
  listRules: route({
    method: 'get',
    path: '/scan-rules',
    summary: 'The files of rules that points are scanned by',
    access: readers,
    response: z.object({ rows: z.array(RuleFileRow) }),
  }),
  addRules: route({
    method: 'post',
    path: '/scan-rules',
    summary: 'Add a file of rules; a mover tries it first, together with those that are in force',
    access: keepers,
    body: RuleSource.extend({ on: z.boolean().default(true) }),
    response: z.object({ id: Id }),
  }),
  changeRules: route({
    method: 'put',
    path: '/scan-rules/:id',
    summary: 'Change a file of rules, or switch it on or off',
    access: keepers,
    params: byId,
    body: RuleSource.extend({ on: z.boolean() }),
    response: Empty,
  }),
  removeRules: route({
    method: 'delete',
    path: '/scan-rules/:id',
    summary: 'Remove a file of rules',
    access: keepers,
    params: byId,
    response: Empty,
  }),
  tryRules: route({
    method: 'post',
    path: '/scan-rules/try',
    summary: 'Try rules on a sample text',
    access: keepers,
    body: z.object({ text: RuleText, sample: z.string().max(100_000) }),
    response: RulesTried,
  }),
} as const;

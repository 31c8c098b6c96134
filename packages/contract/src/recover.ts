import { z } from 'zod';
import { ChatView, FieldsView, MessageView } from '@lithodex/kinds';
import { page, QueryId, Bytes, Count, EscapedPath, Id, Instant, ListQuery, Uuid } from './common';
import { AttachedAs } from './attached';
import { MachineWish, RunningMachine } from './running-machine';

const Strip = z.object({ same: Count, changed: Count, gone: Count, suspect: Count });
export const TreeRow = z.object({
  name: z.string(),
  path: EscapedPath,
  kind: z.string(),
  size: Bytes,
  items: Count,
  mtimeNs: z.string(),
  mode: z.int(),
  uid: z.int(),
  gid: z.int(),
  unread: z.boolean(),
  /** Why it could not be read, or what it holds, where that is known; '' for nothing. */
  about: z.string(),
  /** It holds a tree of its own that can be walked: an image of a disk. */
  opens: z.boolean(),
  random: z.boolean(),
  /** Against the newest point of the series. */
  since: z.enum(['same', 'changed', 'gone', 'suspect']),
  strip: Strip.nullable(),
  versions: Count,
  lastGood: z.object({ pointId: Uuid, moment: Instant }).nullable(),
});
export type TreeRow = z.infer<typeof TreeRow>;
export const TreeQuery = ListQuery.extend({ path: EscapedPath.default('') });
export const Tree = z.object({
  path: EscapedPath,
  rows: z.array(TreeRow),
  next: z.string().nullable(),
  notLookedAt: z.boolean(),
  /** The folder lies inside an item, and is read from it now: nobody knows its versions. */
  inside: z.boolean(),
});
export type Tree = z.infer<typeof Tree>;

export const Version = z.object({
  pointId: Uuid,
  moment: Instant,
  /** Newest point that still holds this version. */
  lastMoment: Instant,
  points: Count,
  size: Bytes,
  mtimeNs: z.string(),
  mode: z.int(),
  kind: z.string(),
  random: z.boolean(),
  unread: z.boolean(),
  suspect: z.boolean(),
  /** What came after: still there, replaced by another version, gone, or not looked at. */
  ended: z.enum(['still', 'replaced', 'gone', 'unseen']),
});
export type Version = z.infer<typeof Version>;
export const VersionsQuery = z.object({ workload: QueryId, path: EscapedPath });
export const Versions = z.object({ rows: z.array(Version) });

export const SearchQuery = ListQuery.extend({
  q: z.string().trim().min(2).max(200),
  workload: QueryId.optional(),
  /** Only what this policy has points of. */
  policy: QueryId.optional(),
});
export const Found = z.object({
  workload: z.object({ id: Id, name: z.string() }),
  path: EscapedPath,
  kind: z.string(),
  size: Bytes,
  versions: Count,
  firstSeen: Instant,
  lastSeen: Instant,
  lastPointId: Uuid,
  stillThere: z.boolean(),
});
export type Found = z.infer<typeof Found>;

/** `notInside`: how many workloads have disks at whose newest point names inside are not searched; null on pages that follow. */
export const SearchPage = page(Found).extend({ notInside: Count.nullable() });

/** Paths as people have them: whole ones, those below a workload, or escaped ones; a line each. */
export const PathsBody = z.object({ paths: z.array(z.string().trim().min(1).max(4000)).min(1).max(2000), workload: Id.optional() });
/** What each line led to, in the order of the lines; `more`: there is more of it than is told. */
export const PathsFound = z.object({ rows: z.array(z.object({ line: z.string(), found: z.array(Found), more: z.boolean() })) });
export type PathsFound = z.infer<typeof PathsFound>;

export const PreviewQuery = z.object({ path: EscapedPath });
export const AttachmentQuery = PreviewQuery.extend({ no: z.coerce.number().int().min(0).max(10_000) });
/** The front of a file of a point, as it can be shown: text, an image as it is (base64), or its first bytes in rows. */
export const FilePreview = z.discriminatedUnion('as', [
  MessageView,
  FieldsView,
  ChatView,
  /** `of`: the format that it is the text of, '' where it is text itself. */
  z.object({ as: z.literal('text'), text: z.string(), of: z.string().max(40), size: Bytes, whole: z.boolean() }),
  z.object({ as: z.literal('image'), type: z.string().max(40), data: z.string(), size: Bytes, whole: z.boolean() }),
  z.object({
    as: z.literal('bytes'),
    rows: z.array(z.string().max(100)).max(64),
    why: z.string().max(300),
    size: Bytes,
    whole: z.boolean(),
  }),
]);
export type FilePreview = z.infer<typeof FilePreview>;

/** What is attached: a task that goes on until it is detached or its time is over. */
export const Attached = z.object({
  runId: Id,
  workload: z.object({ id: Id, name: z.string() }),
  pointId: Uuid,
  moment: Instant,
  path: EscapedPath,
  as: AttachedAs,
  person: z.string(),
  reason: z.string(),
  since: Instant,
  until: Instant,
  mover: z.string(),
  /** Bytes read so far. */
  read: Bytes,
  mine: z.boolean(),
});
export type Attached = z.infer<typeof Attached>;

/** A machine that runs from the store, or is about to. */
export const RunningRow = z.object({
  runId: Id,
  taskId: Uuid,
  workload: z.object({ id: Id, name: z.string() }),
  pointId: Uuid,
  moment: Instant,
  name: z.string(),
  platform: z.object({ id: Id, name: z.string() }),
  host: z.string(),
  networks: z.array(z.string()),
  person: z.string(),
  reason: z.string(),
  since: Instant,
  /** Null while no mover has it. */
  mover: z.string().nullable(),
  wish: MachineWish,
  now: RunningMachine.nullable(),
});
export type RunningRow = z.infer<typeof RunningRow>;

/** What a restore replaced, as it was before, in the point that was taken then. */
export const Undo = z.object({
  moment: Instant,
  rows: z.array(z.object({ pointId: Uuid, path: EscapedPath, workload: z.string(), moment: Instant, kind: z.string(), size: Bytes })),
});
export type Undo = z.infer<typeof Undo>;

const Side = z.object({
  kind: z.string(),
  size: Bytes,
  mtimeNs: z.string(),
  mode: z.int(),
  uid: z.int(),
  gid: z.int(),
  attributes: Count,
  linkTarget: z.string().nullable(),
});
export const ComparedItem = z.object({
  name: z.string(),
  since: z.enum(['same', 'changed', 'gone', 'new', 'unknown']),
  then: Side.nullable(),
  now: Side.nullable(),
  sameContent: z.boolean().nullable(),
});
export type ComparedItem = z.infer<typeof ComparedItem>;
/** How an item stands at the later of two points: other than at the earlier one, there only, not there any more, or not looked at. */
export const differenceKinds = ['changed', 'gone', 'added', 'unseen'] as const;
const DifferentSide = z.object({ kind: z.string(), size: Bytes, mtimeNs: z.string(), mode: z.int(), uid: z.int(), gid: z.int() });
export const Different = z.object({
  path: EscapedPath,
  change: z.enum(differenceKinds),
  then: DifferentSide.nullable(),
  after: DifferentSide.nullable(),
});
export type Different = z.infer<typeof Different>;
export const DifferenceQuery = ListQuery.extend({ with: Uuid, show: z.enum(['all', ...differenceKinds]).default('all') });
export const Difference = z.object({
  /** The earlier and the later of the two. */
  from: z.object({ pointId: Uuid, moment: Instant }),
  to: z.object({ pointId: Uuid, moment: Instant }),
  /** Of all of it; told with the first page only. */
  counts: z.object({ changed: Count, gone: Count, added: Count, unseen: Count }).nullable(),
  rows: z.array(Different),
  next: z.string().nullable(),
});
export type Difference = z.infer<typeof Difference>;

export const CompareQuery = z.object({ path: EscapedPath, folder: z.enum(['yes', 'no']).default('no') });
export const Compared = z.object({ rows: z.array(ComparedItem), at: Instant });
export type Compared = z.infer<typeof Compared>;

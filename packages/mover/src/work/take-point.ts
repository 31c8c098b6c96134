import { connectorOf, OpenStore, type AfarContext, type CaptureContext, type PointContent } from '@lithodex/connectors';
import {
  EngineError,
  encodeTop,
  lockWhere,
  readPoint,
  rootName,
  topEntry,
  type KindContent,
  type Root,
  type Store,
  type TreeEntry,
} from '@lithodex/engine';
import type { Afar } from '@lithodex/contract';
import type { From, LogStart } from '@lithodex/kinds';

export interface PointRequest {
  readonly taskId: string;
  /** Name of the point, where it is not that of its task. */
  readonly pointId?: string;
  readonly seriesId: string;
  readonly workload: Root['workload'];
  readonly from: From | Afar;
  readonly kind: Root['kind'];
  /** Task id of the series' newest point in the catalog. */
  readonly previous: string | null;
  /** Task id of the point that unchanged entries are reused from, null for reading everything; the newest one, or none for a full, when it is not given. */
  readonly base?: string | null;
  /** Take nothing as stored: write everything again. */
  readonly fresh?: boolean;
  readonly logStart?: LogStart | null;
  readonly logged?: boolean;
  readonly moment: number;
  readonly include: readonly string[];
  readonly exclude: readonly string[];
  /** What is read of a workload of several parts; all where it is not said. */
  readonly parts?: readonly string[];
  /** Until when the point is locked, ms. */
  readonly lockedUntil?: number | null | undefined;
}

const pointOf = ({ taskId, pointId = taskId }: PointRequest): string => pointId;

export interface PointHooks extends Pick<CaptureContext, 'limits' | 'alive' | 'now' | 'warn' | 'note' | 'progress' | 'stopped'> {
  /** Captures through the mover that reads the source, where that is another one. */
  readonly afar?: (mover: string, ctx: AfarContext) => Promise<PointContent>;
  /** What has been read again on the target, for a point that is put together there; `chunks` once all of it has. */
  readonly onReadAgain?: (read: { readonly bytes: number; readonly chunks: number | undefined }) => void;
  /** The target refused the lock that was asked for. */
  readonly onNotLocked?: (why: string) => void;
  /** Called right before the commit point. */
  readonly beforeCommit?: () => void;
}

export interface TakenPoint {
  readonly root: Root;
  readonly top: TreeEntry;
  /** Root of the point before. */
  readonly previous: Root | undefined;
  /** The root was found committed by an earlier attempt. */
  readonly adopted: boolean;
}

/** Takes a point of a workload and commits it; adopts the root when an earlier attempt of the same task has committed one. */
export async function takePoint(store: Store, request: PointRequest, hooks: PointHooks): Promise<TakenPoint> {
  await store.assertOwned();
  const pin = await store.pins.pin(request.taskId, rootName(request.seriesId, pointOf(request)));
  try {
    await store.index.confirm();
    return await takePinned(store, request, hooks);
  } finally {
    await store.pins.release(pin);
  }
}

async function takePinned(store: Store, request: PointRequest, hooks: PointHooks): Promise<TakenPoint> {
  const { seriesId, kind } = request;
  const pointId = pointOf(request);
  const rootOf = async (id: string) => {
    const root = await store.root(seriesId, id);
    if (!root) throw new EngineError('OBJECT_MISSING', 'the root of the point this one builds on');
    return root;
  };
  const before = request.previous ? await rootOf(request.previous) : undefined;
  const found = await store.root(seriesId, pointId);
  if (found) return { root: found.root, top: topEntry(found.root), previous: before?.root, adopted: true };

  const { base = kind === 'full' ? null : request.previous } = request;
  const from = base === request.previous ? before?.root : base ? (await rootOf(base)).root : undefined;
  const content = await contentOf(store, request, from, base ? undefined : before?.root, hooks);
  hooks.beforeCommit?.();
  if (hooks.stopped()) throw new EngineError('STOPPED');
  const { top, ...facts } = content;
  const root: Root = {
    format: 1,
    taskId: pointId,
    seriesId,
    workload: { ...request.workload },
    moment: request.moment,
    committed: hooks.now(),
    kind,
    previous: before && request.previous ? { taskId: request.previous, sum: before.sum } : null,
    ...(base && { base }),
    top: encodeTop(top),
    ...facts,
    ...(await lockOrWarn(store, top, request.lockedUntil, hooks)),
  };
  if (await store.commit(root)) return { root, top, previous: before?.root, adopted: false };
  const winner = await store.root(seriesId, pointId);
  if (!winner) throw new EngineError('TASK_GIVEN_UP');
  return { root: winner.root, top: topEntry(winner.root), previous: before?.root, adopted: true };
}

/** Reads the source; what is as it was in `base` is reused, what should be as it was in `reread` is compared. A synthetic full is put together from `base` alone. */
async function contentOf(
  store: Store,
  request: PointRequest,
  base: Root | undefined,
  reread: Root | undefined,
  hooks: PointHooks,
): Promise<PointContent & { readonly moment?: number }> {
  if (request.kind === 'synthetic' && base) return putTogether(store, base, hooks);
  const { taskId, kind, include, exclude, parts = [], fresh = false, from, logStart = null, logged = false } = request;
  const { limits, alive, now, warn, note, progress, stopped } = hooks;
  const ctx: AfarContext = {
    taskId,
    kind,
    logStart,
    logged,
    base,
    reread,
    fresh,
    include,
    exclude,
    parts,
    alive,
    now,
    warn,
    note,
    progress,
    stopped,
  };
  if (from.kind !== 'afar') return (await connectorOf(from.kind)).capture({ ...ctx, store: new OpenStore(store), limits }, from);
  if (!hooks.afar) throw new Error('nobody reads this source for others');
  return hooks.afar(from.mover, ctx);
}

/** The newest point once more as a full: nothing is asked of the source, everything it needs is read again on the target. */
async function putTogether(store: Store, newest: Root, hooks: PointHooks): Promise<PointContent & { readonly moment: number }> {
  const top = topEntry(newest);
  let bytes = 0;
  const read = await readPoint(store, top, hooks.stopped, (n) => {
    bytes += n;
    hooks.onReadAgain?.({ chunks: undefined, bytes });
  });
  hooks.onReadAgain?.(read);
  const { totals, owners, groups, leftOut, warnings, moment, content } = newest;
  const nothing = { read: 0, fresh: 0, stored: 0 };
  return {
    top,
    totals: { ...totals, ...nothing },
    owners,
    groups,
    leftOut,
    warnings,
    moment,
    content: unchanged(content),
  };
}

/** A point that can't be locked is better than none: it is taken, and said not to be locked. */
async function lockOrWarn(
  store: Store,
  top: TreeEntry,
  until: number | null | undefined,
  hooks: PointHooks,
): Promise<{ lockedUntil?: number }> {
  try {
    return await lockWhere(store, top, until, hooks.stopped);
  } catch (error) {
    if (!(error instanceof EngineError && error.code === 'TARGET_REFUSED')) throw error;
    hooks.onNotLocked?.(error.message);
    return {};
  }
}

/** The same, with nothing changed in it. */
function unchanged({ changes, ...content }: KindContent): KindContent {
  if (!changes) return content;
  const before = changes.before + changes.added - changes.removed;
  return { ...content, changes: { before, added: 0, changed: 0, removed: 0, random: 0 } };
}

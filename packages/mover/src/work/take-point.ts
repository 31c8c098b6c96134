import { pathFilter } from '@lithodex/core';
import { accountOf, Capture, readNames, type CaptureProgress, type CaptureWarning } from '@lithodex/connectors';
import {
  EngineError,
  encodeTop,
  lockWhere,
  readPoint,
  rootName,
  topEntry,
  type Root,
  type Store,
  type TreeEntry,
  type WriteCounts,
} from '@lithodex/engine';
import { crunchPools } from './pools';

export interface PointRequest {
  readonly taskId: string;
  readonly seriesId: string;
  readonly workload: Root['workload'];
  readonly kind: Root['kind'];
  /** Task id of the series' newest point in the catalog. */
  readonly previous: string | null;
  /** Task id of the point that unchanged entries are taken over from, null for reading everything; the newest one, or none for a full, when it is not given. */
  readonly base?: string | null;
  /** Take nothing as stored: write everything again. */
  readonly fresh?: boolean;
  readonly moment: number;
  readonly include: readonly string[];
  readonly exclude: readonly string[];
  readonly crossFileSystems: boolean;
  readonly readAs: string | null;
  /** Folders where targets keep their data, absolute, escaped. */
  readonly targetFolders: readonly string[];
  /** Until when the point is locked, ms. */
  readonly lockedUntil?: number | null | undefined;
}

export interface PointHooks {
  readonly now: () => number;
  readonly onWarning: (warning: CaptureWarning) => void;
  /** What has been read again on the target, for a point that is put together there; `chunks` once all of it has. */
  readonly onReadAgain?: (read: { readonly bytes: number; readonly chunks: number | undefined }) => void;
  /** The target refused the lock that was asked for. */
  readonly onNotLocked?: (why: string) => void;
  /** How far it is: what was passed, and the new bytes in finished packs before and after compression. */
  readonly onCapture: (progress: CaptureProgress, packed: WriteCounts) => void;
  readonly stopped: () => boolean;
  /** Called right before the commit point. */
  readonly beforeCommit?: () => void;
}

export interface TakenPoint {
  readonly root: Root;
  readonly top: TreeEntry;
  readonly previousTop: TreeEntry | undefined;
  /** The root was found committed by an earlier attempt. */
  readonly adopted: boolean;
}

/** Takes a point of a folder tree and commits it; adopts the root when an earlier attempt of the same task has committed one. */
export async function takePoint(store: Store, request: PointRequest, hooks: PointHooks): Promise<TakenPoint> {
  await store.assertOwned();
  const pin = await store.pins.pin(request.taskId, rootName(request.seriesId, request.taskId));
  try {
    await store.index.confirm();
    return await takePinned(store, request, hooks);
  } finally {
    await store.pins.release(pin);
  }
}

async function takePinned(store: Store, request: PointRequest, hooks: PointHooks): Promise<TakenPoint> {
  const { taskId, seriesId, kind } = request;
  const rootOf = async (id: string) => {
    const root = await store.root(seriesId, id);
    if (!root) throw new EngineError('OBJECT_MISSING', 'the root of the point this one builds on');
    return root;
  };
  const before = request.previous ? await rootOf(request.previous) : undefined;
  const previousTop = before && topEntry(before.root);
  const found = await store.root(seriesId, taskId);
  if (found) return { root: found.root, top: topEntry(found.root), previousTop, adopted: true };

  const { base = kind === 'full' ? null : request.previous } = request;
  const content =
    kind === 'synthetic' && before
      ? await putTogether(store, before.root, hooks)
      : await capture(
          store,
          request,
          base === request.previous ? before?.root : base ? (await rootOf(base)).root : undefined,
          base ? undefined : before?.root,
          hooks,
        );
  hooks.beforeCommit?.();
  if (hooks.stopped()) throw new EngineError('STOPPED');
  const { top, ...facts } = content;
  const root: Root = {
    format: 1,
    taskId,
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
  if (await store.commit(root)) return { root, top, previousTop, adopted: false };
  const winner = await store.root(seriesId, taskId);
  if (!winner) throw new EngineError('TASK_GIVEN_UP');
  return { root: winner.root, top: topEntry(winner.root), previousTop, adopted: true };
}

/** What a point holds, and the facts of its root that come with it. */
type PointContent = { readonly top: TreeEntry } & Pick<Root, 'totals' | 'owners' | 'groups' | 'leftOut' | 'warnings'> & {
    readonly moment?: number;
  };

/** Reads the source; what is as it was in `base` is taken over from there, what should be as it was in `reread` is compared. */
async function capture(
  store: Store,
  request: PointRequest,
  base: Root | undefined,
  reread: Root | undefined,
  hooks: PointHooks,
): Promise<PointContent> {
  const known = base ?? reread;
  const expected = known ? Math.max(65_536, 2 * known.totals.items) : 1_000_000;
  const claims = request.fresh ? store.freshClaims(expected) : store.claims(expected);
  let checkpointDue = false;
  const packed: WriteCounts = { fresh: 0, stored: 0 };
  const onPack = (toc: Parameters<typeof store.index.written>[0]) => {
    for (const block of toc.blocks) {
      packed.fresh += block.raw;
      packed.stored += block.stored;
    }
    checkpointDue = store.index.written(toc) || checkpointDue;
  };
  const nodes = store.writer(claims, onPack);
  const pool = crunchPools.of(store);
  pool.begin(claims, onPack);
  let warnings = 0;
  try {
    const work = new Capture({
      root: request.workload.path,
      previous: (base && topEntry(base)) ?? (reread && topEntry(reread)),
      rereads: !base,
      filter: pathFilter(request.include, request.exclude),
      leftOutByItself: request.targetFolders,
      crossFileSystems: request.crossFileSystems,
      account: request.readAs ? accountOf(request.readAs) : undefined,
      trees: store.trees,
      pool,
      put: (data) => nodes.put(data),
      drain: async () => {
        await nodes.drain();
        if (checkpointDue) {
          checkpointDue = false;
          await store.index.checkpoint();
        }
        hooks.onCapture(work.progress, packed);
      },
      onWarning: (warning) => {
        warnings++;
        hooks.onWarning(warning);
      },
      stopped: hooks.stopped,
    });
    const top = await work.run();
    await nodes.finish();
    const counts = await pool.finish();
    hooks.onCapture(work.progress, packed);
    return {
      top,
      totals: {
        items: top.folder?.items ?? 0,
        files: work.progress.files,
        bytes: top.folder?.bytes ?? 0,
        read: work.progress.read,
        fresh: counts.fresh + nodes.counts.fresh,
        stored: counts.stored + nodes.counts.stored,
      },
      owners: namesOf('/etc/passwd'),
      groups: namesOf('/etc/group'),
      leftOut: { include: request.include, exclude: request.exclude, byItself: work.leftOut },
      warnings,
    };
  } catch (error) {
    await crunchPools.drop(store);
    throw error;
  }
}

/** The newest point once more as a full: nothing is asked of the source, everything it needs is read again on the target. */
async function putTogether(store: Store, newest: Root, hooks: PointHooks): Promise<PointContent> {
  const top = topEntry(newest);
  let bytes = 0;
  const read = await readPoint(store, top, hooks.stopped, (n) => {
    bytes += n;
    hooks.onReadAgain?.({ chunks: undefined, bytes });
  });
  hooks.onReadAgain?.(read);
  const { totals, owners, groups, leftOut, warnings, moment } = newest;
  return { top, totals: { ...totals, read: 0, fresh: 0, stored: 0 }, owners, groups, leftOut, warnings, moment };
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

function namesOf(file: '/etc/passwd' | '/etc/group'): Record<string, string> {
  return Object.fromEntries([...readNames(file)].map(([id, name]) => [String(id), name]));
}

import { pathFilter } from '@lithodex/core';
import { accountOf, Capture, readNames, type CaptureProgress, type CaptureWarning } from '@lithodex/connectors';
import {
  CrunchPool,
  EngineError,
  encodeTop,
  lockWhere,
  rootName,
  topEntry,
  type KeySet,
  type Root,
  type Store,
  type TreeEntry,
  type WriteCounts,
} from '@lithodex/engine';

export interface PointRequest {
  readonly taskId: string;
  readonly seriesId: string;
  readonly workload: Root['workload'];
  readonly kind: Root['kind'];
  /** Task id of the series' newest point in the catalog. */
  readonly previous: string | null;
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

const threads = 2;
const pools = new Map<string, { readonly keys: KeySet; readonly pool: CrunchPool }>();

/** The crunch threads of this thread for a target; kept from run to run, as starting threads takes longer than many a run. */
function poolFor(store: Store): CrunchPool {
  const { targetId } = store.header;
  const known = pools.get(targetId);
  if (known?.keys.dataKey.equals(store.keys.dataKey)) return known.pool;
  const pool = new CrunchPool(store.keys, store.target.place, threads);
  pools.set(targetId, { keys: store.keys, pool });
  return pool;
}

async function dropPool(targetId: string): Promise<void> {
  const known = pools.get(targetId);
  pools.delete(targetId);
  await known?.pool.close();
}

/** Ends the threads kept for later runs. */
export async function closePools(): Promise<void> {
  await Promise.all([...pools.keys()].map(dropPool));
}

/** Takes a point of a folder tree and commits it; adopts the root when an earlier attempt of the same task has committed one. */
export async function takePoint(store: Store, request: PointRequest, hooks: PointHooks): Promise<TakenPoint> {
  const pin = await store.pins.pin(request.taskId, rootName(request.seriesId, request.taskId));
  try {
    await store.index.confirm();
    return await takePinned(store, request, hooks);
  } finally {
    await store.pins.release(pin);
  }
}

async function takePinned(store: Store, request: PointRequest, hooks: PointHooks): Promise<TakenPoint> {
  const { taskId, seriesId } = request;
  const before = request.previous ? await store.root(seriesId, request.previous) : undefined;
  if (request.previous && !before) throw new EngineError('OBJECT_MISSING', 'the root of the point this one builds on');
  const previousTop = before && topEntry(before.root);
  const found = await store.root(seriesId, taskId);
  if (found) return { root: found.root, top: topEntry(found.root), previousTop, adopted: true };

  const claims = store.claims(Math.max(65_536, 2 * (before?.root.totals.items ?? 0)));
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
  const pool = poolFor(store);
  pool.begin(claims, onPack);
  let warnings = 0;
  try {
    const capture = new Capture({
      root: request.workload.path,
      previous: request.kind === 'full' ? undefined : previousTop,
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
        hooks.onCapture(capture.progress, packed);
      },
      onWarning: (warning) => {
        warnings++;
        hooks.onWarning(warning);
      },
      stopped: hooks.stopped,
    });
    const top = await capture.run();
    await nodes.finish();
    const counts = await pool.finish();
    hooks.onCapture(capture.progress, packed);
    hooks.beforeCommit?.();
    if (hooks.stopped()) throw new EngineError('STOPPED');
    const locked = await lockOrWarn(store, top, request.lockedUntil, hooks);
    const root: Root = {
      format: 1,
      taskId,
      seriesId,
      workload: { ...request.workload },
      moment: request.moment,
      committed: hooks.now(),
      kind: request.kind,
      previous: before && request.previous ? { taskId: request.previous, sum: before.sum } : null,
      top: encodeTop(top),
      totals: {
        items: top.folder?.items ?? 0,
        files: capture.progress.files,
        bytes: top.folder?.bytes ?? 0,
        read: capture.progress.read,
        fresh: counts.fresh + nodes.counts.fresh,
        stored: counts.stored + nodes.counts.stored,
      },
      owners: namesOf('/etc/passwd'),
      groups: namesOf('/etc/group'),
      leftOut: { include: request.include, exclude: request.exclude, byItself: capture.leftOut },
      warnings,
      ...locked,
    };
    if (await store.commit(root)) return { root, top, previousTop, adopted: false };
    const winner = await store.root(seriesId, taskId);
    if (!winner) throw new EngineError('TASK_GIVEN_UP');
    return { root: winner.root, top: topEntry(winner.root), previousTop, adopted: true };
  } catch (error) {
    await dropPool(store.header.targetId);
    throw error;
  }
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

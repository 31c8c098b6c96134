import { copyPoint } from '../copy/copy-point';
import { EngineError } from '../errors';
import { rootName } from '../format/root';
import type { NameSet } from '../index/name-set';
import type { Elsewhere } from '../store/chunk-reader';
import { isLoss } from '../store/loss';
import type { ListedPoint, Store } from '../store/store';
import { mendHeader } from '../store/store-header';
import { heal } from './heal';
import { verify, type Damage, type VerifyOptions } from './verify';

/** Another target that may hold what is lost here. */
export interface OtherCopy {
  readonly name: string;
  readonly open: () => Promise<Store>;
}

export interface MendOptions extends VerifyOptions {
  readonly copyTask: string;
  readonly now: () => number;
  /** Also look at all roots, and for chunks that points need and no pack is known to hold, which takes a walk over all points. */
  readonly walk: boolean;
  /** Points that should be on the target; one whose root is gone is told by nothing else. */
  readonly expected: readonly { readonly seriesId: string; readonly taskId: string }[];
}

export interface MendReport {
  readonly packs: number;
  readonly bytes: number;
  readonly chunks: number;
  readonly damages: readonly Damage[];
  /** Chunks fetched from other copies, and roots that were. */
  readonly fetched: number;
  readonly roots: number;
  /** Needed chunks, and points, that no copy could give. */
  readonly lost: number;
  /** Names of the chunks of damaged packs that could not be read here. */
  readonly unread: NameSet;
}

/** Reads from the first of these that can be opened and has it. One that is away is passed over. */
export function readingFrom(others: readonly OtherCopy[], onUse: (name: string) => void = () => undefined): Elsewhere {
  const opened = new Map<OtherCopy, Promise<Store | undefined>>();
  return async (name) => {
    for (const other of others) {
      const opening = opened.get(other) ?? other.open().catch(() => undefined);
      opened.set(other, opening);
      const store = await opening;
      try {
        const data = await store?.reader.readHere(name);
        if (data) {
          onUse(other.name);
          return data;
        }
      } catch (error) {
        if (!(error instanceof EngineError)) throw error;
      }
    }
    return undefined;
  };
}

/**
 * Verifies a target and mends what it finds: header, index and roots, and the packs from other copies where these have what is lost. Throws STOPPED, and what the
 * target throws other than for what is lost.
 */
export async function verifyAndMend(store: Store, others: readonly OtherCopy[], options: MendOptions): Promise<MendReport> {
  const damages: Damage[] = [];
  const told = (object: string, why: string, count: number) => {
    for (let i = 0; i < count; i++) damages.push({ object, why, chunks: 0 });
  };
  const usual = store.reader.elsewhere;
  const elsewhere = readingFrom(others);
  store.reader.elsewhere = elsewhere;
  try {
    told(
      'lithodex-store.json',
      'the header or its copy was damaged; written anew',
      await mendHeader(store.target, store.keys, store.header),
    );
    told('index/', 'a segment of the index was damaged; made anew from the packs', await store.index.mend());
    const roots = options.walk ? await mendRoots(store, others, options) : [];
    for (const { object, mended } of roots)
      told(object, mended ? 'the root was damaged or gone; made anew from another copy' : 'the root is damaged or gone', 1);
    const report = await verify(store, options);
    const due = options.walk || report.sick.length > 0;
    const { fetched, lost } = due ? await heal(store, report.sick, elsewhere, options.stopped) : { fetched: 0, lost: 0 };
    const { packs, bytes, chunks } = report;
    const mended = roots.filter((r) => r.mended).length;
    return {
      packs,
      bytes,
      chunks,
      damages: [...damages, ...report.damages],
      fetched,
      roots: mended,
      lost: lost + roots.length - mended,
      unread: report.lost,
    };
  } finally {
    store.reader.elsewhere = usual;
  }
}

async function mendRoots(store: Store, others: readonly OtherCopy[], options: MendOptions): Promise<{ object: string; mended: boolean }[]> {
  const listed = await store.listPoints();
  const known = new Set(listed.map((p) => p.taskId));
  const found: { object: string; mended: boolean }[] = [];
  const mend = async (point: PointName, damaged: boolean) => {
    const object = rootName(point.seriesId, point.taskId);
    found.push({ object, mended: await fetchRoot(store, others, point, options, damaged) });
  };
  for (const point of listed) if (await isDamaged(store, point)) await mend(point, true);
  for (const point of options.expected) if (!known.has(point.taskId)) await mend(point, false);
  return found;
}

type PointName = MendOptions['expected'][number];

async function isDamaged(store: Store, point: ListedPoint): Promise<boolean> {
  try {
    await store.listedRoot(point);
    return false;
  } catch (error) {
    if (!isLoss(error)) throw error;
    return true;
  }
}

/** The damaged root goes only when another copy of the point was seen. */
async function fetchRoot(
  store: Store,
  others: readonly OtherCopy[],
  point: PointName,
  options: MendOptions,
  damaged: boolean,
): Promise<boolean> {
  for (const other of others)
    try {
      const from = await other.open();
      if (!(await from.root(point.seriesId, point.taskId))) continue;
      if (damaged) await store.removeRoot(point.seriesId, point.taskId);
      await copyPoint(from, store, { ...point, copyTask: options.copyTask, now: options.now, stopped: options.stopped });
      return true;
    } catch (error) {
      if (!(error instanceof EngineError) || error.code === 'STOPPED') throw error;
    }
  return false;
}

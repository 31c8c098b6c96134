import { copyPoint } from '../copy/copy-point';
import { lockAgain } from '../locks/lock-point';
import { packName } from '../format/pack';
import { EngineError } from '../errors';
import { rootName } from '../format/root';
import { NameSet } from '../index/name-set';
import type { Elsewhere } from '../store/chunk-reader';
import { isAway, isLoss } from '../store/loss';
import type { ListedPoint, Store } from '../store/store';
import { mendSettings } from '../store/kept-settings';
import { mendOwner } from '../store/owner';
import { mendHeader } from '../store/store-header';
import { heal } from './heal';
import { verify, type Damage, type VerifyOptions, type VerifyReport } from './verify';

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
  readonly expected: readonly { readonly seriesId: string; readonly taskId: string; readonly lockedUntil?: number | null | undefined }[];
}

export interface MendReport {
  /** Cartridges on the shelf, whose packs were not read. */
  readonly away: readonly string[];
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
  await store.assertOwned();
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
    told('owner/', 'the record of the owner or its copy was damaged; written anew', await mendOwner(store.target, store.keys));
    const settings = await mendSettings(store);
    told('settings/', 'a record of the settings or its copy was damaged; written anew', settings.mended);
    told('settings/', 'a record of the settings was damaged in both its places; the installation writes it again', settings.lost);
    told('index/', 'a segment of the index was damaged; made anew from the packs', await store.index.mend());
    const { news } = options.walk ? await store.index.adopt() : { news: [] };
    await store.index.checkpoint();
    const roots = options.walk ? await mendRoots(store, others, options) : [];
    for (const { object, mended } of roots)
      told(object, mended ? 'the root was damaged or gone; made anew from another copy' : 'the root is damaged or gone', 1);
    const report = await verifyRevealing(store, options);
    const due = (options.walk && !report.away.length) || report.sick.length > 0;
    const { fetched, lost, live, unreadable } = due
      ? await healWithin(store, report, elsewhere, options.stopped)
      : { fetched: 0, lost: 0, live: undefined, unreadable: [] };
    if (news.some((name) => live?.has(name))) told('index/', 'a segment of the index was gone; made anew from the packs', 1);
    if (report.sick.length || fetched) await lockAgain(store, options.stopped);
    const needless = staleNames(report, unreadable);
    const { packs, bytes, chunks, away } = report;
    const mended = roots.filter((r) => r.mended).length;
    return {
      packs,
      bytes,
      chunks,
      away,
      damages: [...damages, ...report.damages.filter((d) => !needless.has(d.object))],
      fetched,
      roots: mended,
      lost: lost + roots.length - mended,
      unread: report.lost,
    };
  } finally {
    store.reader.elsewhere = usual;
  }
}

/** Heals; where the folders that say what is needed are on a cartridge that is away, nothing is, and all that is damaged counts as lost until it is back. */
async function healWithin(store: Store, report: VerifyReport, elsewhere: Elsewhere, stopped: () => boolean): ReturnType<typeof heal> {
  try {
    return await heal(store, report.sick, elsewhere, stopped);
  } catch (error) {
    if (!isAway(error)) throw error;
    return { fetched: 0, lost: report.lost.size, live: undefined, unreadable: [] };
  }
}

/**
 * Packs that are gone but were not needed: all that points need of them can be read from others. Of two prunes of which one slept, the later may write back index entries of packs that
 * the other deleted.
 */
function staleNames(report: VerifyReport, unreadable: readonly Buffer[]): Set<string> {
  const missed = new NameSet();
  for (const name of unreadable) missed.add(name);
  const gone = new Set(report.damages.filter((d) => d.gone).map((d) => d.object));
  return new Set(
    report.sick
      .filter((toc) => !toc.chunks().some((c) => missed.has(c.name)))
      .flatMap((toc) => (gone.has(packName(toc.packId)) ? [packName(toc.packId)] : [])),
  );
}

/** Verifies; damaged packs over which something was put are brought back as they were first stored, and read again. */
async function verifyRevealing(store: Store, options: MendOptions): Promise<VerifyReport> {
  const report = await verify(store, options);
  const revealed = new Set<string>();
  for (const toc of report.sick) if (await store.target.reveal(packName(toc.packId))) revealed.add(toc.packId.toString('hex'));
  if (!revealed.size) return report;
  const again = await verify(store, { reads: (id) => revealed.has(id), stopped: options.stopped });
  const back = [...revealed].map((id) => ({
    object: packName(Buffer.from(id, 'hex')),
    why: 'something was put over it; brought back',
    chunks: 0,
  }));
  const others = report.sick.filter((toc) => !revealed.has(toc.packId.toString('hex')));
  const damages = report.damages.filter((d) => others.some((toc) => packName(toc.packId) === d.object));
  const lost = new NameSet();
  for (const toc of [...others, ...again.sick]) for (const { name } of toc.chunks()) if (report.lost.has(name)) lost.add(name);
  return { ...report, damages: [...damages, ...back, ...again.damages], sick: [...others, ...again.sick], lost };
}

async function mendRoots(store: Store, others: readonly OtherCopy[], options: MendOptions): Promise<{ object: string; mended: boolean }[]> {
  const listed = await store.listPoints();
  const known = new Set(listed.map((p) => p.taskId));
  const found: { object: string; mended: boolean }[] = [];
  const mend = async (point: PointName, damaged: boolean) => {
    const object = rootName(point.seriesId, point.taskId);
    found.push({
      object,
      mended: (damaged && (await revealRoot(store, point))) || (await fetchRoot(store, others, point, options, damaged)),
    });
  };
  for (const point of listed) if (await isDamaged(store, point)) await mend({ ...expectedOf(options, point), ...point }, true);
  for (const point of options.expected) if (!known.has(point.taskId)) await mend(point, false);
  return found;
}

type PointName = MendOptions['expected'][number];

const expectedOf = (options: MendOptions, point: PointName) => options.expected.find((p) => p.taskId === point.taskId);

/** Brings back the root as it was first stored; true when it can be read then. */
async function revealRoot(store: Store, { taskId }: PointName): Promise<boolean> {
  const point = (await store.listPoints()).find((p) => p.taskId === taskId);
  let revealed = false;
  for (const name of point?.names ?? []) revealed = (await store.target.reveal(name)) || revealed;
  return revealed && point !== undefined && !(await isDamaged(store, point));
}

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
      if (damaged) await removeDamaged(store, point);
      const { seriesId, taskId, lockedUntil } = point;
      await copyPoint(from, store, {
        seriesId,
        taskId,
        lockedUntil,
        copyTask: options.copyTask,
        now: options.now,
        stopped: options.stopped,
      });
      return true;
    } catch (error) {
      if (!(error instanceof EngineError) || error.code === 'STOPPED') throw error;
    }
  return false;
}

/** A root that is locked stays beside the one that takes its place. */
async function removeDamaged(store: Store, { seriesId, taskId }: PointName): Promise<void> {
  try {
    await store.removeRoot(seriesId, taskId);
  } catch (error) {
    if (!(error instanceof EngineError && error.code === 'OBJECT_LOCKED')) throw error;
  }
}

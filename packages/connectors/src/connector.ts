import type { Duplex } from 'node:stream';
import type { RestoreAction } from '@lithodex/core';
import type { FoundWorkload, FromOf, KindName, LogStart, SystemTest, ToOf } from '@lithodex/kinds';
import type { PointKind, Root, Store, TreeEntry, WriteCounts } from '@lithodex/engine';
import type { CaptureStore } from './capture-store';
import type { HostLimits } from './files/host-limits';
import type { Blocks } from '@lithodex/volumes';
import type { InsideTree } from './inside/inside-tree';
import type { PointStore } from './point-store';
import type { FoundItem } from './readable-tree';

/** A line for people, about an item (byte string) or about all of it. */
export interface Said {
  readonly code: string;
  readonly path: string;
  readonly message: string;
}

/** Something that went otherwise than wished; `missing`: the item is not in the point for it. */
export interface Warned extends Said {
  readonly missing: boolean;
}

/** How far the reading of a source is. */
export interface CaptureProgress {
  items: number;
  /** Bytes of all files passed, reused ones included. */
  bytes: number;
  /** Bytes read from the source. */
  read: number;
  files: number;
}

/** What a capture works with. */
export interface CaptureContext {
  readonly store: CaptureStore;
  readonly taskId: string;
  /** The point that unchanged entries are reused from; undefined for reading everything. */
  readonly base: Root | undefined;
  /** The point that what is read again is compared with, where everything is read. */
  readonly reread: Root | undefined;
  /** What is read of the source. */
  readonly kind: PointKind;
  /** Where a log begins that has no point yet, and what of it is still needed; null where no full needs any. */
  readonly logStart: LogStart | null;
  /** Whether the log of the workload is taken as well, so that it has to lead on from this point. */
  readonly logged: boolean;
  /** Take nothing as stored: write everything again. */
  readonly fresh: boolean;
  readonly include: readonly string[];
  readonly exclude: readonly string[];
  /** What is read of a workload of several parts, the rest stays as it is in `base`; none for all. */
  readonly parts: readonly string[];
  /** What the mover may read on its host. */
  readonly limits: HostLimits;
  /** Which of these tasks may still go on. */
  readonly alive: (tasks: string[]) => Promise<readonly string[]>;
  readonly now: () => number;
  readonly warn: (warned: Warned) => void;
  readonly note: (said: Said) => void;
  /** How far it is: what was passed, and the new bytes in finished packs before and after compression. */
  readonly progress: (progress: CaptureProgress, packed: WriteCounts) => void;
  readonly stopped: () => boolean;
}

/** What a point holds, and the facts of its root that come with it. */
export type PointContent = { readonly top: TreeEntry } & Pick<Root, 'totals' | 'owners' | 'groups' | 'leftOut' | 'warnings' | 'content'>;

/** What a survey works with. */
export interface SurveyContext extends Pick<CaptureContext, 'include' | 'exclude' | 'limits' | 'warn' | 'stopped'> {
  /** Bytes free on the target; null where nobody can tell. */
  readonly free: number | null;
  readonly say: (level: 'note' | 'warning', said: Said) => void;
}

export interface Surveyed {
  readonly items: number;
  readonly files: number;
  readonly bytes: number;
  readonly warnings: number;
  readonly missing: number;
}

/** A point that is open for reading. */
export interface OpenPoint {
  /** The store that holds it; undefined for one that is read from where it lies, and is not stored by us. */
  readonly kept: Store | undefined;
  readonly store: PointStore;
  readonly root: Root;
  readonly top: TreeEntry;
}

/** A tree inside an item of a point, and the rest of the path that led into it. */
export interface OpenedInside {
  readonly tree: InsideTree;
  /** Byte string, '' for all of it. */
  readonly rest: string;
}

/** An item to bring back: `path` in its point ('' for all of it), `to` below `base`. Byte strings. */
export interface RestorePick {
  /** Opens its point; each is opened once. */
  readonly open: () => Promise<OpenPoint>;
  /** Finds the item, also where the path leads on inside one. Throws PATH_MISSING. */
  readonly find: () => Promise<FoundItem>;
  readonly path: string;
  readonly to: string;
  readonly base: string;
}

/** What became of an item of a restore. */
export interface RestoredItem {
  /** Byte string below the destination. */
  readonly path: string;
  readonly action: RestoreAction | 'failed';
  readonly kind: TreeEntry['kind'];
  readonly bytes: number;
  /** Name it got, where put beside; or why it failed or what could not be set. */
  readonly remark: string;
}

/** What a restore works with. */
export interface RestoreContext {
  readonly taskId: string;
  /** Look only, and write nothing. */
  readonly trial: boolean;
  /** What takes the place of what is stored of the only pick; undefined where nothing does. */
  readonly edited: string | undefined;
  readonly limits: HostLimits;
  /** Runs `use` with a connection to a machine that was started from a recovery medium; one that is lost is made anew, and `use` runs again. */
  readonly unit?: (<T>(name: string, use: (stream: Duplex) => Promise<T>) => Promise<T>) | undefined;
  readonly phase: (name: string) => void;
  readonly note: (said: Said) => void;
  /** Reports an item that is done. */
  readonly done: (item: RestoredItem) => void;
  /** Sends reports when there are many. */
  readonly drain: () => Promise<void> | undefined;
  /** Bytes moved, beyond those told before. */
  readonly moved: (bytes: number) => void;
  readonly stopped: () => boolean;
}

/** What a restore has come to. */
export interface RestoreOutcome {
  /** Items that were brought back, or in a trial looked at. */
  readonly items: number;
  /** What sums it up, in words. */
  readonly summary: string;
  /** What the platform calls the machines that were made. */
  readonly made?: readonly string[];
}

/** What was written beside a store. */
export interface NewestWritten {
  /** Absolute path, text. */
  readonly folder: string;
  readonly files: number;
  /** Bytes of files that were not there as they are. */
  readonly bytes: number;
}

/** How one kind of workload is read and written. */
export interface Connector<K extends KindName = KindName> {
  /** Where it is found in a system that is connected. */
  readonly system?: {
    /** Signs in and looks whether the account may do all that is needed. */
    test(from: FromOf<K>): Promise<SystemTest>;
    /** The workloads that the system holds. */
    discover(from: FromOf<K>): Promise<FoundWorkload[]>;
  };
  /** Reads what is there now into the store; what is as it was in `base` is reused. */
  capture(ctx: CaptureContext, from: FromOf<K>): Promise<PointContent>;
  /** Whether there is more in the log than a point of it holds. */
  grew?(from: FromOf<K>, point: Pick<Root, 'content'>): Promise<boolean>;
  /** Looks at everything a capture would, and moves nothing. */
  survey(ctx: SurveyContext, from: FromOf<K>): Promise<Surveyed>;
  /** Of kinds whose points are text: writes it as ordinary files beside the store of a point, in `target`, instead of that of the point before. */
  newest?(
    point: Pick<OpenPoint, 'store' | 'top'>,
    target: string,
    workload: { readonly id: string; readonly name: string },
    stopped: () => boolean,
  ): Promise<NewestWritten>;
  /** Of kinds whose items hold trees of their own: opens the one a path leads to or into; undefined where it leads to none. */
  open?(point: OpenPoint, path: string): Promise<OpenedInside | undefined>;
  /** Of kinds whose items are disks: a disk, or a volume on it, as a block device. Throws PATH_MISSING for what is neither. */
  device?(point: OpenPoint, path: string): Promise<Blocks>;
  /** Brings picked items back. */
  restore(ctx: RestoreContext, picks: readonly RestorePick[], to: ToOf<K>): Promise<RestoreOutcome>;
}

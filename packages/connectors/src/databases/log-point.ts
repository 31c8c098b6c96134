import type { Root, TreeEntry } from '@lithodex/engine';
import type { DatabaseCommit, DatabaseLogPoint, LogStart } from '@lithodex/kinds';
import type { CaptureContext, PointContent } from '../connector';
import type { PointWriting } from '../capture-store';

const mostNotable = 200;

/** The log does not go on where the one before ended. */
export class LogGap extends Error {}

export const logFacts = ({ content }: Pick<Root, 'content'>): DatabaseLogPoint => content.facts as DatabaseLogPoint;

/** What was taken of a log. */
export interface LogTaken {
  readonly family: DatabaseLogPoint['family'];
  readonly top: TreeEntry;
  readonly files: number;
  /** Bytes read of the server. */
  readonly read: number;
  readonly stretch: number;
  /** Where the stretch was begun. */
  readonly begins: { readonly file: string; readonly at: number };
  /** Why it does not go on where it ended; '' where it does. */
  readonly cause: string;
  /** The last second of which everything was read, by the server's clock, ms. */
  readonly nowMs: number;
  readonly notable: readonly DatabaseCommit[];
  readonly commits: number;
  readonly state: object;
}

/** A point of a log. A cause is warned of as LOG_GAP. */
export async function logPoint(ctx: CaptureContext, writing: PointWriting, start: LogStart | null, taken: LogTaken): Promise<PointContent> {
  const { base } = ctx;
  const { top, cause } = taken;
  if (cause) ctx.warn({ code: 'LOG_GAP', path: '', message: cause, missing: false });
  const counts = await writing.finish();
  const reach = reachOf(base, start, taken);
  const facts: DatabaseLogPoint = {
    kind: 'databaseLog',
    family: taken.family,
    reach,
    notable: [...(base ? logFacts(base).notable : []), ...taken.notable].filter((c) => c.at >= reach[0]!.from).slice(-mostNotable),
    commits: taken.commits,
  };
  return {
    top,
    totals: { items: top.folder?.items ?? 0, files: taken.files, bytes: top.folder?.bytes ?? 0, read: taken.read, ...counts },
    owners: {},
    groups: {},
    leftOut: { include: [], exclude: [], byItself: [] },
    warnings: cause ? 1 : 0,
    content: {
      kind: 'databaseLog',
      version: 1,
      facts,
      state: taken.state,
      changes: { before: 0, added: 0, changed: 0, removed: 0, random: 0 },
    },
  };
}

function reachOf(
  base: Root | undefined,
  start: LogStart | null,
  { stretch, begins, cause, nowMs }: Pick<LogTaken, 'stretch' | 'begins' | 'cause' | 'nowMs'>,
): DatabaseLogPoint['reach'] {
  const needed = start?.moment ?? 0;
  const before = base ? logFacts(base).reach : [];
  const last = before.at(-1);
  const all =
    last?.stretch === stretch
      ? [...before.slice(0, -1), { ...last, to: Math.max(last.to, nowMs) }]
      : [...before, { stretch, from: before.length || cause ? nowMs : (start?.moment ?? nowMs), to: nowMs, cause, begins }];
  return all.flatMap((r, i) => (i < all.length - 1 && r.to < needed ? [] : [{ ...r, from: Math.max(r.from, needed) }]));
}

/** A commit that deletes so many rows is told by itself. */
export const manyRows = 1000;

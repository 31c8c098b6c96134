import type { WorkloadRow } from '@lithodex/contract';
import type { Base } from '../../base/base';
import { estateOf, knownWorkloads, pointsThen, type Known } from './estate';

const urgency: readonly WorkloadRow['coverage'][] = ['none', 'suspect', 'matched', 'protected'];
const rank = (w: WorkloadRow) => 2 * urgency.indexOf(w.coverage) + Number(!w.late);

/** Rows in the order of their names. */
const mostUrgentFirst = (rows: readonly WorkloadRow[]) =>
  rows
    .map((w) => [rank(w), w] as const)
    .sort(([a], [b]) => a - b)
    .map(([, w]) => w);

/** Rows whose points are asked for in one statement. */
const atOnce = 500;

interface Kept {
  readonly at: number | null;
  /** Of the installation's clock: what is late goes by it. */
  readonly minute: number;
  /** Newest change that any server had told of. */
  readonly newest: number;
  readonly rows: Promise<WorkloadRow[]>;
}

/** The workloads as they were read last, so that a page of them does not read all of them again. */
export class EstateBook {
  private kept: Kept | undefined;

  private known: { readonly newest: number; readonly rows: Promise<Known[]> } | undefined;

  constructor(private readonly deps: () => Base) {}

  /**
   * All workloads, now or as of a moment, what needs protection first. The rows are shared: nobody may change them. As of a moment they say whether there are points and when the newest was
   * taken; {@link shown} says the rest.
   */
  async rows(at: number | null): Promise<WorkloadRow[]> {
    const deps = this.deps();
    const newest = await deps.events.newest();
    const minute = Math.floor(deps.clock.now() / 60_000);
    const { kept } = this;
    if (kept?.at === at && kept.newest === newest && kept.minute === minute) return kept.rows;
    const rows = this.read(at).then(mostUrgentFirst);
    this.kept = { at, minute, newest, rows };
    rows.catch(() => {
      this.kept = undefined;
    });
    return rows;
  }

  /** Rows that are to be shown, with all that is said of them. */
  async shown(rows: readonly WorkloadRow[], at: number | null): Promise<readonly WorkloadRow[]> {
    if (at === null) return rows;
    const all: WorkloadRow[] = [];
    for (let from = 0; from < rows.length; from += atOnce)
      all.push(...(await pointsThen(this.deps().db, rows.slice(from, from + atOnce), at)));
    return all;
  }

  /** What is known of the workloads without their points; the same list until it becomes different. */
  async workloads(): Promise<readonly Known[]> {
    const { db, events } = this.deps();
    const newest = await events.newest('estate');
    if (this.known?.newest === newest) return this.known.rows;
    const rows = knownWorkloads(db);
    this.known = { newest, rows };
    rows.catch(() => {
      this.known = undefined;
    });
    return rows;
  }

  private async read(at: number | null): Promise<WorkloadRow[]> {
    const deps = this.deps();
    return estateOf(deps, await this.workloads(), at);
  }
}

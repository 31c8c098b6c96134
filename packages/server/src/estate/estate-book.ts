import type { WorkloadRow } from '@lithodex/contract';
import type { Deps } from '../deps';
import { estateOf } from './estate';

const urgency: readonly WorkloadRow['coverage'][] = ['none', 'suspect', 'matched', 'protected'];

function mostUrgentFirst(rows: WorkloadRow[]): WorkloadRow[] {
  const order = new Intl.Collator('en', { numeric: true });
  return rows.sort(
    (a, b) =>
      urgency.indexOf(a.coverage) - urgency.indexOf(b.coverage) ||
      Number(b.late) - Number(a.late) ||
      order.compare(a.name, b.name) ||
      a.id - b.id,
  );
}

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

  constructor(private readonly deps: () => Deps) {}

  /** All workloads, now or as of a moment, what needs protection first. The rows are shared: nobody may change them. */
  async rows(at: number | null): Promise<WorkloadRow[]> {
    const deps = this.deps();
    const newest = await deps.events.newest();
    const minute = Math.floor(deps.clock.now() / 60_000);
    const { kept } = this;
    if (kept?.at === at && kept.newest === newest && kept.minute === minute) return kept.rows;
    const rows = estateOf(deps, at, null).then(mostUrgentFirst);
    this.kept = { at, minute, newest, rows };
    rows.catch(() => {
      this.kept = undefined;
    });
    return rows;
  }
}

import type { WorkloadRow } from '@lithodex/contract';
import type { Deps } from '../deps';
import { estateOf } from './estate';

/** So often other servers are asked, by way of the database, whether they told of a change, ms. */
const askEveryMs = 2000;

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
  readonly version: number;
  /** Of the installation's clock: what is late goes by it. */
  readonly minute: number;
  /** Newest change that any server had told of. */
  readonly newest: number;
  asked: number;
  readonly rows: Promise<WorkloadRow[]>;
}

/** The workloads as they were read last, so that a page of them does not read all of them again. */
export class EstateBook {
  private kept: Kept | undefined;

  constructor(private readonly deps: () => Deps) {}

  /** All workloads, now or as of a moment, what needs protection first. The rows are shared: nobody may change them. */
  async rows(at: number | null): Promise<WorkloadRow[]> {
    const deps = this.deps();
    const { version } = deps.events;
    const minute = Math.floor(deps.clock.now() / 60_000);
    const { kept } = this;
    if (kept?.at === at && kept.version === version && kept.minute === minute && (await this.isFresh(kept))) return kept.rows;
    const newest = await deps.events.newest();
    const rows = estateOf(deps, at, null).then(mostUrgentFirst);
    this.kept = { at, version, minute, newest, asked: performance.now(), rows };
    rows.catch(() => {
      this.kept = undefined;
    });
    return rows;
  }

  private async isFresh(kept: Kept): Promise<boolean> {
    if (performance.now() - kept.asked < askEveryMs) return true;
    if ((await this.deps().events.newest()) !== kept.newest) return false;
    kept.asked = performance.now();
    return true;
  }
}

import { inTransaction } from '../../base/db/open';
import type { Handlers } from '../../base/http/bind-routes';
import type { Deps } from '../../acts/deps';
import { keepScan, keepSeen } from '../../acts/trust/scan-reports';
import { heldTask } from '../../records/movers/running-task';

/** What movers tell of scans. */
export function scanReportHandlers(deps: Deps): Pick<Handlers, 'pointScanned' | 'filesSeen'> {
  const { db, clock } = deps;
  return {
    async pointScanned({ params, body, actor }) {
      const workloadId = await inTransaction(db, async (trx) =>
        keepScan(trx, clock.now(), await heldTask(trx, params.id, body.attempt, actor, ['scan']), body),
      );
      await deps.events.emit('point', { workloadId });
      return {};
    },

    async filesSeen({ params, body, actor }) {
      await inTransaction(db, async (trx) => {
        await keepSeen(trx, await heldTask(trx, params.id, body.attempt, actor, ['scan']), body);
      });
      return {};
    },
  };
}

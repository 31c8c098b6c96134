import { inTransaction } from '../../base/db/open';
import type { Handlers } from '../../base/http/bind-routes';
import type { Deps } from '../../acts/deps';
import { keepDrill } from '../../acts/trust/drill-reports';
import { heldTask } from '../../records/movers/running-task';

/** What movers tell of drills. */
export function drillReportHandlers({ db, clock }: Deps): Pick<Handlers, 'drillTold'> {
  return {
    async drillTold({ params, body, actor }) {
      await inTransaction(db, async (trx) => {
        await keepDrill(trx, clock.now(), await heldTask(trx, params.id, body.attempt, actor, ['drill']), body);
      });
      return {};
    },
  };
}

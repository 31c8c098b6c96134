import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import { within, type Actor } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { readSystem } from '../../acts/estate/read-system';
import type { Deps } from '../../acts/deps';
import { pathOf } from '../../records/recover/path-of';
import { readablePoint } from '../../records/recover/point-access';
import { applicationOfRow, type SystemRow } from '../../records/systems/system-rows';
import { pointRefs } from '../../records/targets/refs';

type ApplicationHandlers = Pick<Handlers, 'resourcePair' | 'switchVolume' | 'removeVolume'>;

const askMs = 30_000;
const switchMs = 60_000;

/** Applications of clusters: what became of a resource, and which of their volumes they use. */
export function applicationHandlers(deps: Deps): ApplicationHandlers {
  const { db, clock, secrets } = deps;

  /** An application that is there, with its cluster. */
  async function applicationAt(
    id: number,
    actor: Actor,
  ): Promise<{ readonly name: string; readonly namespace: string; readonly row: SystemRow }> {
    within(actor, id);
    const workload = found(
      await db('workload')
        .where({ id, kind: 'application' })
        .first<{ name: string; outer_id: string; source_id: number } | undefined>('name', 'outer_id', 'source_id'),
    );
    const row = await db('source').where({ id: workload.source_id }).whereNotNull('secret').first<SystemRow | undefined>();
    if (!row) throw new ApiError('NOT_NOW', undefined, 'Its cluster is not connected here.');
    return { name: workload.name, namespace: workload.outer_id, row };
  }

  async function act(
    id: number,
    actor: Actor,
    action: string,
    detail: object,
    ask: 'switchVolume' | 'removeVolume',
    said: object,
  ): Promise<void> {
    const { name, namespace, row } = await applicationAt(id, actor);
    await inTransaction(db, (trx) =>
      appendAudit(trx, clock.now(), { actor: actor.name, action, object: name, detail: JSON.stringify(detail) }),
    );
    const { server } = applicationOfRow(secrets, row, namespace);
    await deps.movers.ask({ ask, server, namespace, ...said } as Parameters<typeof deps.movers.ask>[0], switchMs, row.read_by);
    await readSystem(deps, row);
  }

  return {
    async resourcePair({ params, query, actor }) {
      const point = await readablePoint(db, params.id, actor);
      const { namespace, row } = await applicationAt(point.workload_id, actor);
      const [ref] = await pointRefs(db, secrets, [point.id]);
      if (!ref) throw new ApiError('POINT_GONE');
      const { server } = applicationOfRow(secrets, row, namespace);
      return deps.movers.ask({ ask: 'resourcePair', point: ref, path: pathOf(query.path), server, namespace }, askMs, row.read_by);
    },

    async switchVolume({ params, body, actor }) {
      await act(params.id, actor, 'volume.switch', body, 'switchVolume', body);
      return {};
    },

    async removeVolume({ params, body, actor }) {
      await act(params.id, actor, 'volume.remove', body, 'removeVolume', body);
      return {};
    },
  };
}

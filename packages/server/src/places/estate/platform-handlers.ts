import { auditTest } from '../../base/http/audit-test';
import type { PlatformBody, PlatformOpener, PlatformTest } from '@lithodex/contract';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError, found } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import { numberAt } from '../../base/http/cursor';
import { addressOf, familyOf, platformRef, sealedOpener, toPlatform, type PlatformRow } from '../../records/systems/platform-rows';
import { askInventory, readPlatform } from '../../acts/estate/read-platform';

type PlatformHandlers = Pick<
  Handlers,
  'listPlatforms' | 'testPlatform' | 'addPlatform' | 'changePlatform' | 'readPlatform' | 'platformPlaces' | 'estateChanges'
>;

const testMs = 30_000;
const isSameAddress = (a: string, b: string) => new URL(a).href === new URL(b).href;
/** What the trail keeps of a platform: nothing that opens it. */
const detailOf = ({ name, endpoint, opener, way, family }: PlatformBody) => JSON.stringify({ name, endpoint, by: opener?.by, way, family });

export function platformHandlers(deps: Deps): PlatformHandlers {
  const { db, clock } = deps;

  const rowOf = async (id: number) =>
    found(await db('source').where({ id, kind: 'platform' }).whereNotNull('secret').first<PlatformRow | undefined>());

  /** What opens a platform: as given, or as kept for the address it was given for. */
  const openerOf = async (id: number | null, { opener, endpoint }: PlatformBody): Promise<PlatformOpener> => {
    if (opener) return opener;
    if (id === null) throw new ApiError('INVALID', [{ at: 'body.opener' }], 'Say how to sign in. Nothing was changed.');
    const kept = platformRef(deps.secrets, await rowOf(id));
    if (!isSameAddress(kept.endpoint, endpoint))
      throw new ApiError(
        'INVALID',
        [{ at: 'body.opener' }],
        'The address is another one. What opens the platform was given for the old one and is not sent elsewhere: say again how to sign in. Nothing was changed.',
      );
    return kept.opener;
  };

  const test = async (id: number | null, body: PlatformBody, opener: PlatformOpener) =>
    deps.movers.ask({ ask: 'platformTest', platform: { id, endpoint: body.endpoint, opener, way: body.way, family: body.family } }, testMs);

  const mustWork = async (body: PlatformBody, opener: PlatformOpener, own: number | null): Promise<PlatformTest> => {
    const taken = await db('source').where({ name: body.name }).first<{ id: number } | undefined>('id');
    if (taken && taken.id !== own) throw new ApiError('NAME_TAKEN');
    const answer = await test(own, body, opener);
    // the first right is to read the inventory: without it there is nothing to protect
    if (!answer.ok || answer.needs[0]?.missing) throw new ApiError('CONNECTION_FAULTY', answer, `${answer.message} It was not saved.`);
    return answer;
  };

  return {
    async listPlatforms() {
      const rows = await db('source').where({ kind: 'platform' }).whereNotNull('secret').orderBy('name').select<PlatformRow[]>();
      const counts = await db('workload')
        .whereNull('gone_at')
        .groupBy('source_id')
        .select<{ source_id: number; n: number }[]>('source_id', db.raw('COUNT(*) AS n'));
      const machines = new Map(counts.map((c) => [c.source_id, Number(c.n)]));
      return { rows: rows.map((r) => toPlatform(r, machines.get(r.id) ?? 0)) };
    },

    async testPlatform({ body: { id, body }, actor }) {
      const opener = await openerOf(id, body);
      await auditTest(deps, actor, 'source.test', id === null ? 'source' : `source ${id}`, detailOf(body));
      return test(id, body, opener);
    },

    async addPlatform({ body, actor }) {
      const opener = await openerOf(null, body);
      const { account, passwordEnds } = await mustWork(body, opener, null);
      const id = await inTransaction(db, async (trx) => {
        const columns = { name: body.name, kind: 'platform', folder: Buffer.alloc(0), location: '', cross_fs: false };
        const address = addressOf(body, opener, account);
        const [made] = (await trx('source').insert({ ...columns, address, opener_ends: passwordEnds, created_at: clock.now() })) as [
          number,
        ];
        await trx('source')
          .where({ id: made })
          .update({ secret: sealedOpener(deps.secrets, made, opener) });
        const act = { actor: actor.name, action: 'source.add', object: `source ${made}`, detail: detailOf(body) };
        await appendAudit(trx, clock.now(), act);
        return made;
      });
      const { machines } = await readPlatform(deps, await rowOf(id));
      await deps.events.emit('estate');
      return { id, machines };
    },

    async changePlatform({ params, body, actor }) {
      const row = await rowOf(params.id);
      if (body.family !== familyOf(row))
        throw new ApiError(
          'INVALID',
          [{ at: 'body.family' }],
          'Hosts do not become a cloud: connect that as its own. Nothing was changed.',
        );
      const opener = await openerOf(row.id, body);
      const { account, passwordEnds } = await mustWork(body, opener, row.id);
      await inTransaction(db, async (trx) => {
        await trx('source')
          .where({ id: row.id })
          .update({
            name: body.name,
            address: addressOf(body, opener, account),
            opener_ends: passwordEnds,
            secret: sealedOpener(deps.secrets, row.id, opener),
          });
        const act = { actor: actor.name, action: 'source.change', object: `source ${row.id}`, detail: detailOf(body) };
        await appendAudit(trx, clock.now(), act);
      });
      await readPlatform(deps, await rowOf(row.id));
      await deps.events.emit('estate');
      return {};
    },

    readPlatform: async ({ params }) => readPlatform(deps, await rowOf(params.id)),

    async platformPlaces({ params }) {
      const { machines, ...places } = await askInventory(deps, await rowOf(params.id));
      return { ...places, folders: [...new Set(machines.map((m) => m.folder))].sort() };
    },

    async estateChanges({ query }) {
      const rows = await db('estate_change as c')
        .join('workload as w', 'w.id', 'c.workload_id')
        .modify((q) => {
          if (query.since !== undefined) void q.where('c.at', '>=', query.since);
          if (query.cursor) void q.where('c.id', '<', numberAt(query.cursor, 0));
        })
        .orderBy('c.id', 'desc')
        .limit(query.limit + 1)
        .select<
          { id: number; at: number; what: 'new' | 'gone' | 'moved' | 'renamed'; detail: string; workload_id: number; name: string }[]
        >('c.id', 'c.at', 'c.what', 'c.detail', 'c.workload_id', 'w.name');
      const shown = rows.slice(0, query.limit);
      return {
        rows: shown.map(({ workload_id, name, ...c }) => ({ ...c, workload: { id: workload_id, name } })),
        next: rows.length > query.limit ? String(shown.at(-1)!.id) : null,
        total: null,
      };
    },
  };
}

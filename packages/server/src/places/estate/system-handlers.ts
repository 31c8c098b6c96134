import { familyOf, heldBy } from '@lithodex/core';
import { MachineFacts, type SystemAddress, type SystemBody, type SystemTest } from '@lithodex/contract';
import { auditTest } from '../../base/http/audit-test';
import { appendAudit } from '../../base/audit/trail';
import { fromJson } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError, found } from '../../base/errors';
import { within } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { bandOf, commitsAround, logObjectives } from '../../acts/estate/database-band';
import { openerOf } from './system-openers';
import { storageUse } from '../../acts/estate/storage-use';
import { readSystem } from '../../acts/estate/read-system';
import {
  addressOfRow,
  fromOfAddress,
  sealedSecret,
  secretOfRow,
  systemKinds,
  toSystem,
  type SystemRow,
} from '../../records/systems/system-rows';

type SystemHandlers = Pick<
  Handlers,
  | 'listSystems'
  | 'serversInMachines'
  | 'testSystem'
  | 'addSystem'
  | 'changeSystem'
  | 'readSystem'
  | 'storageUse'
  | 'databaseBand'
  | 'databaseCommits'
>;

const testMs = 30_000;
const mostInMachines = 200;
/** What the trail keeps of a system: nothing that opens it. */
const detailOf = ({ name, readBy, address }: SystemBody) => JSON.stringify({ name, address: { ...address, authority: undefined }, readBy });

export function systemHandlers(deps: Deps): SystemHandlers {
  const { db, clock, secrets } = deps;

  const rowOf = async (id: number) =>
    found(
      await db('source')
        .where({ id })
        .whereIn('kind', [...systemKinds])
        .whereNotNull('secret')
        .first<SystemRow | undefined>(),
    );

  /** What opens a system: as given, or as kept for the address it was given for. */
  const secretOf = async (id: number | null, { secret, address }: SystemBody): Promise<string> => {
    if (id === null) return openerOf(undefined, address, secret);
    const row = await rowOf(id);
    return openerOf({ address: addressOfRow(row), secret: () => secretOfRow(secrets, row) }, address, secret);
  };

  const test = (id: number | null, { address, readBy }: SystemBody, secret: string): Promise<SystemTest> =>
    deps.movers.ask({ ask: 'systemTest', from: fromOfAddress(id, address, secret) }, testMs, readBy);

  const mustWork = async (body: SystemBody, secret: string, own: number | null): Promise<SystemTest> => {
    const taken = await db('source').where({ name: body.name }).first<{ id: number } | undefined>('id');
    if (taken && taken.id !== own) throw new ApiError('NAME_TAKEN');
    const answer = await test(own, body, secret);
    if (!answer.ok) throw new ApiError('CONNECTION_FAULTY', answer, `${answer.message} It was not saved.`);
    return answer;
  };

  return {
    async listSystems() {
      const rows = await db('source')
        .whereIn('kind', [...systemKinds])
        .whereNotNull('secret')
        .orderBy('name')
        .select<SystemRow[]>();
      const workloads = await db('workload')
        .whereIn(
          'source_id',
          rows.map((r) => r.id),
        )
        .whereNull('gone_at')
        .select<{ id: number; name: string; source_id: number }[]>('id', 'name', 'source_id');
      return {
        rows: rows.map((r) =>
          toSystem(
            r,
            workloads.filter((w) => w.source_id === r.id).map(({ id, name }) => ({ id, name })),
          ),
        ),
      };
    },

    async serversInMachines() {
      const machines = await db('workload')
        .where({ kind: 'machine' })
        .whereNull('gone_at')
        .whereRaw("JSON_LENGTH(facts, '$.services') > 0")
        .orderBy('name')
        .select<{ id: number; name: string; facts: unknown }[]>('id', 'name', 'facts');
      const systems = await db('source')
        .whereIn('kind', [...systemKinds])
        .whereNotNull('secret')
        .select<SystemRow[]>();
      const hostsOf = (address: SystemAddress) => (address.kind === 'database' ? [address.host.split('.')[0]!] : []);
      const connected = new Set(systems.flatMap((s) => [s.name, ...hostsOf(addressOfRow(s))]));
      const rows = machines
        .filter((m) => !connected.has(m.name))
        .flatMap(({ id, name, facts }) => {
          const { services, location } = MachineFacts.parse(fromJson(facts));
          return heldBy(services).flatMap(({ by }) => {
            const family = familyOf(by);
            return family ? [{ workload: { id, name }, family, by, location }] : [];
          });
        });
      return { rows: rows.slice(0, mostInMachines) };
    },

    async testSystem({ body: { id, body }, actor }) {
      const secret = await secretOf(id, body);
      await auditTest(deps, actor, 'source.test', id === null ? 'source' : `source ${id}`, detailOf(body));
      return test(id, body, secret);
    },

    async addSystem({ body, actor }) {
      const secret = await secretOf(null, body);
      const { name, location, address, readBy } = body;
      // points of it may have been found on a target before it was connected
      const found = await db('source').where({ name, kind: address.kind, secret: null }).first<{ id: number } | undefined>('id');
      const { credentialEnds } = await mustWork(body, secret, found?.id ?? null);
      const id = await inTransaction(db, async (trx) => {
        const columns = {
          name,
          location,
          kind: address.kind,
          folder: Buffer.alloc(0),
          cross_fs: false,
          created_at: clock.now(),
          tried_at: clock.now(),
        };
        const made = found?.id ?? ((await trx('source').insert(columns)) as [number])[0];
        await trx('source')
          .where({ id: made })
          .update({
            location,
            read_by: readBy,
            address: JSON.stringify(address),
            opener_ends: credentialEnds,
            secret: sealedSecret(secrets, made, secret),
          });
        const act = { actor: actor.name, action: 'source.add', object: `source ${made}`, detail: detailOf(body) };
        await appendAudit(trx, clock.now(), act);
        return made;
      });
      await readSystem(deps, await rowOf(id));
      const workloads = await db('workload').where({ source_id: id }).orderBy('id').select<{ id: number }[]>('id');
      return { id, workloads: workloads.map((w) => w.id) };
    },

    async changeSystem({ params, body, actor }) {
      const row = await rowOf(params.id);
      const before = addressOfRow(row);
      if (before.kind !== body.address.kind)
        throw new ApiError('INVALID', [{ at: 'body.address.kind' }], 'A system stays of its kind. Nothing was changed.');
      // its points and its log are of that family
      if (before.kind === 'database' && body.address.kind === 'database' && before.family !== body.address.family)
        throw new ApiError('INVALID', [{ at: 'body.address.family' }], 'A database server stays of its family. Nothing was changed.');
      const secret = await secretOf(row.id, body);
      const { credentialEnds } = await mustWork(body, secret, row.id);
      await inTransaction(db, async (trx) => {
        const { name, location, address, readBy } = body;
        await trx('source')
          .where({ id: row.id })
          .update({
            name,
            location,
            read_by: readBy,
            address: JSON.stringify(address),
            opener_ends: credentialEnds,
            secret: sealedSecret(secrets, row.id, secret),
          });
        // a database server is its only workload
        if (before.kind === 'database') await trx('workload').where({ source_id: row.id, name: row.name }).update({ name });
        const act = { actor: actor.name, action: 'source.change', object: `source ${row.id}`, detail: detailOf(body) };
        await appendAudit(trx, clock.now(), act);
      });
      await readSystem(deps, await rowOf(row.id));
      return {};
    },

    async databaseBand({ params, actor }) {
      within(actor, params.id);
      found(await db('workload').where({ id: params.id, kind: 'database' }).first<{ id: number } | undefined>('id'));
      return { ...(await bandOf(db, params.id)), objectiveMinutes: (await logObjectives(db)).get(params.id) ?? null };
    },

    async databaseCommits({ params, query, actor }) {
      within(actor, params.id);
      found(await db('workload').where({ id: params.id, kind: 'database' }).first<{ id: number } | undefined>('id'));
      return commitsAround(deps, params.id, query.at, query.before, query.after);
    },

    async storageUse({ params }) {
      const row = await rowOf(params.id);
      if (addressOfRow(row).kind !== 'bucket') throw new ApiError('NOT_FOUND');
      return storageUse(db, row.id, clock.now());
    },

    async readSystem({ params }) {
      await readSystem(deps, await rowOf(params.id));
      return {};
    },
  };
}

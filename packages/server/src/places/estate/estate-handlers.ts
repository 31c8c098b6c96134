import { bytesOfText, escapePath, isInside, joinPath, pathBelow, pathFilter } from '@lithodex/core';
import type { ConnectionTest, Discovered, SourceBody } from '@lithodex/contract';
import type { Knex } from 'knex';
import { auditTest } from '../../base/http/audit-test';
import { mustBeOurs } from '../../records/targets/owned';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError, found } from '../../base/errors';
import { within } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { assignAll } from '../../acts/estate/apply-inventory';
import { policiesInForce, versioned } from '../../records/policies/matching';
import { pathOf } from '../../records/recover/path-of';
import { backupTasks, queueRun } from '../../acts/runs/queue';
import { estateAnswer, estateValues } from './estate-answer';
import { summarizePoints } from '../../records/catalog/point-summary';
import { readyToRebuild } from '../../acts/estate/ready-to-rebuild';
import { workloadDetail } from './workload-detail';

type EstateHandlers = Pick<
  Handlers,
  | 'estate'
  | 'estateValues'
  | 'testSource'
  | 'addSource'
  | 'changeSource'
  | 'removeSource'
  | 'limitSource'
  | 'discover'
  | 'workload'
  | 'readyToRebuild'
  | 'tagWorkload'
  | 'protectOnce'
  | 'liftSuspicion'
>;

const clean = (folder: string) => (folder.length > 1 ? folder.replace(/\/+$/, '') : folder);

async function test(deps: Deps, body: SourceBody): Promise<ConnectionTest> {
  const answer = await deps.movers.ask({ ask: 'probe', folder: bytesOfText(clean(body.folder)), readAs: body.readAs }, 60_000, body.readBy);
  return { ...answer, findings: answer.findings.map((f) => ({ ...f, path: escapePath(f.path) })) };
}

async function setTags(trx: Knex.Transaction, now: number, workloadId: number, tags: readonly string[]): Promise<void> {
  await versioned(trx, now, async () => {
    await trx('tag').where({ workload_id: workloadId, given: true }).whereNotIn('name', tags).delete();
    for (const name of new Set(tags)) await trx('tag').insert({ workload_id: workloadId, name }).onConflict().ignore();
  });
  await assignAll(trx, now);
}

export function estateHandlers(deps: Deps): EstateHandlers {
  const { db, clock } = deps;
  const rowOf = (body: SourceBody) => ({
    name: body.name,
    folder: Buffer.from(clean(body.folder)),
    location: body.location,
    read_as: body.readAs,
    read_by: body.readBy,
    cross_fs: body.crossFileSystems,
    whole_server: body.wholeServer,
  });
  const checkName = async (name: string, own: number | null) => {
    const taken = await db('source').where({ name }).first<{ id: number } | undefined>();
    if (taken && taken.id !== own) throw new ApiError('NAME_TAKEN');
  };
  const mustWork = async (body: SourceBody) => {
    const result = await test(deps, body);
    if (!result.ok) throw new ApiError('CONNECTION_FAULTY', result.findings, `${result.findings[0]?.message ?? ''} It was not saved.`);
  };
  return {
    estate: ({ query, actor }) => estateAnswer(deps, query, actor.remit),

    estateValues: () => estateValues(deps),

    async testSource({ body, actor }) {
      await auditTest(deps, actor, 'source.test', 'source', JSON.stringify({ name: body.name, folder: body.folder, readAs: body.readAs }));
      return test(deps, body);
    },

    async addSource({ body, actor }) {
      await checkName(body.name, null);
      await mustWork(body);
      const ids = await inTransaction(db, async (trx) => {
        const [id] = (await trx('source').insert({ ...rowOf(body), created_at: clock.now() })) as [number];
        const [workloadId] = (await trx('workload').insert({ source_id: id, name: body.name, created_at: clock.now() })) as [number];
        await setTags(trx, clock.now(), workloadId, body.tags);
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'source.add',
          object: `source ${id}`,
          detail: JSON.stringify(body),
        });
        return { id, workloadId };
      });
      await deps.events.emit('estate', { workloadId: ids.workloadId });
      return ids;
    },

    async changeSource({ params, body, actor }) {
      found(await db('source').where({ id: params.id, kind: 'files' }).first<{ id: number } | undefined>('id'));
      const workload = found(await db('workload').where({ source_id: params.id }).first<{ id: number } | undefined>());
      await checkName(body.name, params.id);
      await mustWork(body);
      await inTransaction(db, async (trx) => {
        await trx('source').where({ id: params.id }).update(rowOf(body));
        await trx('workload').where({ id: workload.id }).update({ name: body.name });
        await setTags(trx, clock.now(), workload.id, body.tags);
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'source.change',
          object: `source ${params.id}`,
          detail: JSON.stringify(body),
        });
      });
      await deps.events.emit('estate', { workloadId: workload.id });
      return {};
    },

    async removeSource({ params, actor }) {
      const source = found(await db('source').where({ id: params.id }).first<{ name: string } | undefined>('name'));
      const own = () => db('workload').where({ source_id: params.id }).select('id');
      const used = await db('series').whereIn('workload_id', own()).first<{ no: number } | undefined>('no');
      const assigned = await db('assignment').whereIn('workload_id', own()).first<{ policy_id: number } | undefined>('policy_id');
      if (used || assigned) throw new ApiError('IN_USE', undefined, 'It has points or a policy, so it was left as it is.');
      await inTransaction(db, async (trx) => {
        await versioned(trx, clock.now(), async () => {
          await trx('tag').whereIn('workload_id', own()).delete();
          await trx('drill_plan').whereIn('workload_id', own()).delete();
        });
        await trx('estate_change').where({ source_id: params.id }).delete();
        await trx('snapshot_machine').whereIn('workload_id', own()).delete();
        await trx('storage_snapshot').where({ source_id: params.id }).delete();
        await trx('workload').where({ source_id: params.id }).delete();
        await trx('source').where({ id: params.id }).delete();
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'source.remove',
          object: `source ${params.id}`,
          detail: source.name,
        });
      });
      await deps.events.emit('estate');
      return {};
    },

    async limitSource({ params, body, actor }) {
      await inTransaction(db, async (trx) => {
        if (!(await trx('source').where({ id: params.id }).update({ readers: body.readers }))) throw new ApiError('NOT_FOUND');
        const detail = JSON.stringify(body);
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'source.limits', object: `source ${params.id}`, detail });
      });
      deps.movers.workAppeared();
      await deps.events.emit('estate');
      return {};
    },

    async discover({ params, query }): Promise<Discovered> {
      type Source = { folder: Buffer; read_as: string | null; read_by: string | null };
      const source = found(
        await db('source').where({ id: params.id, kind: 'files' }).first<Source | undefined>('folder', 'read_as', 'read_by'),
      );
      const root = source.folder.toString('latin1');
      const path = pathOf(query.path);
      const rows = await deps.movers.ask({ ask: 'discover', folder: root, path, readAs: source.read_as }, undefined, source.read_by);
      const assigned = await db('assignment as a')
        .join('workload as w', 'w.id', 'a.workload_id')
        .where('w.source_id', params.id)
        .select<{ policy_id: number }[]>('a.policy_id');
      const policies = (await policiesInForce(db)).filter((p) => assigned.some((a) => a.policy_id === p.id));
      const targets = await db('target').whereNotNull('folder').select<{ name: string; folder: string }[]>('name', 'folder');
      return {
        path: query.path,
        readAt: clock.now(),
        rows: rows.map((row) => {
          const at = joinPath(path, row.name);
          const target = targets.find((t) => isInside(pathBelow(root, at), bytesOfText(t.folder)));
          const skipping = policies.filter((p) => pathFilter(p.body.include, p.body.exclude).leftOut(at, row.kind === 'folder'));
          const leftOut = target
            ? `holds target ${target.name}`
            : policies.length && skipping.length === policies.length
              ? `by ${skipping.map((p) => p.name).join(', ')}`
              : '';
          return {
            name: escapePath(row.name),
            path: escapePath(at),
            kind: row.kind,
            size: row.size,
            mtime: Math.round(Number(BigInt(row.mtimeNs) / 1_000_000n)),
            readable: row.readable,
            leftOut,
          };
        }),
      };
    },

    async workload({ params, actor }) {
      within(actor, params.id);
      return workloadDetail(deps, params.id);
    },

    async readyToRebuild({ params, query, actor }) {
      within(actor, params.id);
      found(await db('workload').where({ id: params.id }).first<{ id: number } | undefined>('id'));
      return readyToRebuild(db, params.id, query.point);
    },

    async tagWorkload({ params, body, actor }) {
      found(await db('workload').where({ id: params.id }).first<{ id: number } | undefined>());
      await inTransaction(db, async (trx) => {
        await setTags(trx, clock.now(), params.id, body.tags);
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'workload.tag',
          object: `workload ${params.id}`,
          detail: body.tags.join(', '),
        });
      });
      await deps.events.emit('estate', { workloadId: params.id });
      return {};
    },

    async protectOnce({ params, body, actor }) {
      type Row = { id: number; name: string; gone_at: number | null };
      const workload = found(await db('workload').where({ id: params.id }).first<Row | undefined>('id', 'name', 'gone_at'));
      if (workload.gone_at !== null) throw new ApiError('NOT_NOW', undefined, 'The machine is gone from its platform.');
      const own = (await policiesInForce(db)).find((p) => p.body.workloads.includes(params.id) || !body.targetId);
      const targetId =
        body.targetId ??
        own?.body.rules[0]?.targetId ??
        (await db('target').whereNull('follows_every').orderBy('created_at').first<{ id: string } | undefined>('id'))?.id;
      if (!targetId || !(await db('target').where({ id: targetId }).first<{ id: string } | undefined>()))
        throw new ApiError('INVALID', [{ at: 'body.targetId' }], 'There is no target to write to. Add one first.');
      await mustBeOurs(db, targetId);
      const runId = await inTransaction(db, async (trx) => {
        const tasks = await backupTasks(
          trx,
          [workload.id],
          { targetId, kind: body.kind, fresh: body.fresh, include: [], exclude: [], lockDays: null },
          'backup',
        );
        if (!tasks.length) throw new ApiError('NOT_NOW', undefined, 'It is being protected right now.');
        const id = await queueRun(trx, clock.now(), {
          kind: 'backup',
          pointKind: body.kind,
          startedBy: 'onDemand',
          name: `${workload.name}, once`,
          person: actor.name,
          reason: body.note,
          keepOwn: body.keep ?? { by: 'hand' },
          tasks,
        });
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'workload.protectOnce',
          object: `workload ${params.id}`,
          detail: `run ${id} ${body.note}`,
        });
        return id;
      });
      deps.movers.workAppeared();
      await deps.events.emit('run', { runId, workloadId: params.id });
      return { runId };
    },

    async liftSuspicion({ params, body, actor }) {
      const changed = await inTransaction(db, async (trx) => {
        const said = JSON.stringify({ as: 'usual', by: actor.name, at: clock.now(), reason: body.reason });
        const points = await trx('point')
          .where({ workload_id: params.id, suspect: true, state: 'visible' })
          .update({ suspect: false, said });
        await summarizePoints(trx, params.id);
        const frozen = await trx('workload').where({ id: params.id, frozen: true }).update({ frozen: false });
        if (points + frozen)
          await appendAudit(trx, clock.now(), {
            actor: actor.name,
            action: 'workload.lift',
            object: `workload ${params.id}`,
            detail: body.reason,
          });
        return points + frozen;
      });
      if (!changed) throw new ApiError('NOT_NOW', undefined, 'Nothing about this workload is suspect.');
      await deps.events.emit('estate', { workloadId: params.id });
      return {};
    },
  };
}

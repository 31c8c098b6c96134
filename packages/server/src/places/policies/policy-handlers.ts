import type { Policy, PolicyRule } from '@lithodex/contract';
import type { Knex } from 'knex';
import { readAllPlatforms } from '../../acts/estate/read-platform';
import { appendAudit } from '../../base/audit/trail';
import { fromJsonOrNull } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError, found } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import { askSecondPerson } from '../../acts/people/second-person';
import { startPolicy } from '../../acts/runs/queue';
import { assign, matchesOf, policiesInForce, versioned, type PolicyRow } from '../../records/policies/matching';
import { consequencesOf } from './consequences';
import { measuresOf } from './measures';
import { lossBy, lossText } from '../../acts/policies/promises';
import { checkBody, policyOf, putInForce, startClocks, takeName } from '../../acts/policies/put-in-force';
import { matchesShown } from '../../acts/estate/matching-shown';
import { policyStart, setPolicyStart } from './policy-start';
import { policyOfYaml, policyYaml } from './policy-yaml';
import { nextStarts } from '../../records/policies/timetable';
import { rememberVersion, versionsOf } from '../../records/policies/versions';

type PolicyHandlers = Pick<
  Handlers,
  | 'listPolicies'
  | 'getPolicy'
  | 'policyVersions'
  | 'policyFile'
  | 'readPolicy'
  | 'policyStart'
  | 'setPolicyStart'
  | 'addPolicy'
  | 'changePolicy'
  | 'removePolicy'
  | 'consequences'
  | 'policyMeasures'
  | 'runPolicy'
>;

/** The highest number a rule of a policy ever had. */
async function newestRule(db: Knex, id: number): Promise<number> {
  const rows = await db('policy_version')
    .where({ policy_id: id })
    .select<{ numbers: unknown }[]>(db.raw("JSON_EXTRACT(body, '$.rules[*].no') AS numbers"));
  return Math.max(1, ...rows.flatMap((r) => fromJsonOrNull<number[]>(r.numbers) ?? []));
}

/** When policies ran last and how many points of theirs there are, by id. */
async function histories(deps: Deps, ids: readonly number[]): Promise<Map<number, Pick<Policy, 'lastRun' | 'points'>>> {
  const { db } = deps;
  const runs = await db('run')
    .whereIn('policy_id', ids)
    .where({ kind: 'backup' })
    .groupBy('policy_id')
    .select<{ policy_id: number; at: number }[]>('policy_id', db.raw('MAX(queued_at) AS at'));
  const points = await db('policy_points')
    .whereIn('policy_id', ids)
    .groupBy('policy_id')
    .select<{ policy_id: number; points: number }[]>('policy_id', db.raw('SUM(points) AS points'));
  const last = new Map(runs.map((r) => [r.policy_id, r.at]));
  const kept = new Map(points.map((r) => [r.policy_id, Number(r.points)]));
  return new Map(ids.map((id) => [id, { lastRun: last.get(id) ?? null, points: kept.get(id) ?? 0 }]));
}

async function describe(deps: Deps, policies: readonly PolicyRow[]): Promise<Policy[]> {
  const history = await histories(
    deps,
    policies.map((p) => p.id),
  );
  return Promise.all(
    policies.map(async (p) => ({
      id: p.id,
      body: p.body,
      matches: (await matchesShown(deps, p.body)).map(({ id, name }) => ({ id, name })),
      nextRun: nextStarts(p.body, p.timetables, deps.clock.now(), 1)[0] ?? null,
      ...history.get(p.id)!,
    })),
  );
}

/** What *Run now* runs: one rule; a trial looks at all of them, once for each target. Throws NOT_FOUND for a rule the policy does not have. */
function rulesToRun(
  { body }: PolicyRow,
  { trial, rule: no }: { trial: boolean; rule?: number | undefined },
): [PolicyRule, ...PolicyRule[]] {
  const rule = found(no === undefined ? body.rules[0] : body.rules.find((r) => r.no === no));
  if (!trial) return [rule];
  const others = body.rules.filter((r) => r !== rule && r.targetId !== rule.targetId);
  return [rule, ...new Map(others.map((r) => [r.targetId, r])).values()];
}

export function policyHandlers(deps: Deps): PolicyHandlers {
  const { db, clock } = deps;
  return {
    async listPolicies({ query }) {
      const all = (await policiesInForce(db)).filter((p) => !query.q || p.name.toLowerCase().includes(query.q.toLowerCase()));
      return { rows: await describe(deps, all), next: null, total: all.length };
    },

    async getPolicy({ params }) {
      const [policy] = await describe(deps, [await policyOf(deps, params.id)]);
      return { ...policy!, newestRule: await newestRule(db, params.id) };
    },

    async policyVersions({ params }) {
      await policyOf(deps, params.id);
      return { rows: await versionsOf(db, params.id) };
    },

    async policyFile({ params, res }) {
      const { body } = await policyOf(deps, params.id);
      res
        .attachment(`${body.name}.yaml`)
        .type('text/yaml')
        .send(await policyYaml(db, body));
    },

    async readPolicy({ body: { text } }) {
      const body = await policyOfYaml(db, text);
      await matchesShown(deps, body);
      return { body };
    },

    policyStart: () => policyStart(db),

    async setPolicyStart({ body: { policyId }, actor }) {
      if (policyId !== null) await policyOf(deps, policyId);
      await inTransaction(db, async (trx) => {
        await setPolicyStart(trx, policyId);
        const object = policyId === null ? 'no policy' : `policy ${policyId}`;
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'policy.start', object, detail: '' });
      });
      return policyStart(db);
    },

    async addPolicy({ body, actor }) {
      await checkBody(deps, body, null);
      const id = await inTransaction(db, async (trx) => {
        let created = 0;
        await takeName(trx, body.name, null);
        await versioned(trx, clock.now(), async () => {
          [created] = (await trx('policy').insert({ name: body.name, body: JSON.stringify(body) })) as [number];
        });
        await startClocks(trx, created, body, clock.now());
        await rememberVersion(trx, created, clock.now(), actor.name, body);
        await assign(
          trx,
          clock.now(),
          created,
          (await matchesOf(trx, body)).map((m) => m.id),
        );
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'policy.add',
          object: `policy ${created}`,
          detail: JSON.stringify(body),
        });
        return created;
      });
      await deps.events.emit('policy');
      return { id };
    },

    async changePolicy({ params, body, actor }) {
      const policy = await policyOf(deps, params.id);
      await checkBody(deps, body, params.id);
      const loss = await lossBy(db, clock.now(), params.id, body);
      const text = lossText(loss);
      if (text)
        return {
          request: await askSecondPerson(
            deps,
            actor,
            `policy ${params.id}`,
            `${policy.name}: ${text}`,
            { kind: 'policy.change', id: params.id, body },
            loss,
          ),
        };
      await putInForce(deps, params.id, body, actor.name);
      return { request: null };
    },

    async removePolicy({ params, actor }) {
      const policy = await policyOf(deps, params.id);
      const after = (await policiesInForce(db)).filter(({ body }) =>
        body.rules.some(({ schedule }) => schedule.every === 'after' && schedule.policyId === params.id),
      );
      if (after.length)
        throw new ApiError(
          'NOT_NOW',
          undefined,
          `${after.map((p) => p.name).join(', ')} would never run again without it. Change that first.`,
        );
      await inTransaction(db, async (trx) => {
        await versioned(trx, clock.now(), async () => {
          await trx('policy').where({ id: params.id }).update({ ended: true });
        });
        await assign(trx, clock.now(), params.id, []);
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'policy.end',
          object: `policy ${params.id}`,
          detail: policy.name,
        });
      });
      await deps.events.emit('policy');
      return {};
    },

    policyMeasures: ({ body }) => measuresOf(deps, body.id, body.body),

    consequences: ({ body }) => consequencesOf(deps, body.id, body.body),

    async runPolicy({ params, body, actor }) {
      const policy = await policyOf(deps, params.id);
      const rules = rulesToRun(policy, body);
      if (policy.body.rule || policy.body.tags.length) await readAllPlatforms(deps);
      const runId = await inTransaction(db, async (trx) => {
        const matches = (await matchesOf(trx, policy.body)).map((m) => m.id);
        await assign(trx, clock.now(), policy.id, matches);
        const id = await startPolicy(trx, clock.now(), policy, rules, matches, {
          startedBy: 'hand',
          person: actor.name,
          trial: body.trial,
        });
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: body.trial ? 'policy.trial' : 'policy.run',
          object: `policy ${policy.id}`,
          detail: `run ${id}`,
        });
        return id;
      });
      deps.movers.workAppeared();
      await deps.events.emit('run', { runId });
      return { runId };
    },
  };
}

import { randomBytes } from 'node:crypto';
import { formatFirst } from '@lithodex/core';
import type { Hardware, HostSample, KnownMover } from '@lithodex/contract';
import { appendAudit } from '../../base/audit/trail';
import { fromJson, fromJsonOrNull } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError, found } from '../../base/errors';
import { moverNamed, tokenHash } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { keyOfToken } from '../../base/http/open-calls';
import { refuseKnownMover } from '../../acts/movers/known-names';
import { issueToken } from '../../acts/people/issue-token';
import { placeOf } from '../../acts/people/steps';
import { isUnit, type Duty } from '../../base/http/duties';

type KnownMoverHandlers = Pick<
  Handlers,
  'beat' | 'joinMover' | 'listMovers' | 'moverSamples' | 'changeMover' | 'forgetMover' | 'inviteMover'
>;

const dayMs = 86_400_000;
const codeMs = 3_600_000;
const keptDays = 7;
const sampleEveryMs = 55_000;

interface MoverRow {
  readonly name: string;
  readonly first_seen: number;
  readonly last_seen: number;
  readonly drained: 0 | 1;
  readonly tasks: number;
  readonly place: string;
  readonly duties: unknown;
  readonly hardware: unknown;
  readonly latest: unknown;
}

/** The movers as people see and steer them, and how a new one comes in. */
export function knownMoverHandlers(deps: Deps): KnownMoverHandlers {
  const { db } = deps;
  // hosts live in real time, whatever the clock of the installation says
  const now = () => Date.now();
  /** Of each mover, when a sample was kept last. */
  const sampled = new Map<string, number>();

  return {
    async beat({ body: { mover, hardware, sample }, actor }) {
      if (isUnit(actor)) throw new ApiError('NOT_ALLOWED');
      const name = moverNamed(mover, actor);
      const seen = {
        last_seen: now(),
        duties: JSON.stringify(actor.duties),
        hardware: JSON.stringify(hardware),
        latest: JSON.stringify(sample),
      };
      await db('mover')
        .insert({ name, first_seen: now(), ...seen })
        .onConflict('name')
        .merge(seen);
      if (now() - (sampled.get(name) ?? 0) > sampleEveryMs) {
        sampled.set(name, now());
        await db('mover_sample')
          .insert({ mover: name, at: now(), sample: JSON.stringify(sample) })
          .onConflict()
          .ignore();
        await db('mover_sample')
          .where({ mover: name })
          .where('at', '<', now() - keptDays * dayMs)
          .delete();
      }
      const { drained, tasks } = await db('mover').where({ name }).first<Pick<MoverRow, 'drained' | 'tasks'>>('drained', 'tasks');
      return { tasks: drained ? 0 : tasks };
    },

    async inviteMover({ body, actor }) {
      const code = `lxj_${randomBytes(24).toString('base64url')}`;
      const until = now() + codeMs;
      await inTransaction(db, async (trx) => {
        await trx('join_code').where('until', '<', now()).delete();
        await trx('join_code').insert({
          hash: tokenHash(code),
          duties: JSON.stringify(body.duties),
          systems: body.systems && JSON.stringify(body.systems),
          made_by: actor.name,
          until,
        });
        await appendAudit(trx, deps.clock.now(), {
          actor: actor.name,
          action: 'mover.invite',
          object: 'movers',
          detail: body.duties.join(' '),
        });
      });
      return { code, until };
    },

    async joinMover({ body: { code, mover }, req }) {
      const refused = async () => {
        const entry = { actor: 'nobody', action: 'join.refused', object: `mover ${mover}`, detail: `from ${placeOf(req)}` };
        await inTransaction(db, (trx) => appendAudit(trx, deps.clock.now(), entry));
        return new ApiError('CODE_REFUSED');
      };
      const valid = () =>
        db('join_code')
          .where({ hash: tokenHash(code), used_by: null })
          .where('until', '>', now());
      const invited = await valid().first<{ duties: unknown; systems: unknown; made_by: string } | undefined>(
        'duties',
        'systems',
        'made_by',
      );
      if (!invited) throw await refused();
      // a code does not let anybody put a mover out that is only asleep
      const unit = isUnit({ duties: fromJson<Duty[]>(invited.duties) });
      await refuseKnownMover(deps, mover, unit);
      // of two who come with the same code, one gets in
      if (!(await valid().update({ used_by: mover }))) throw await refused();
      await db('api_token')
        .where({ mover })
        .modify((q) => {
          if (unit) void q.whereRaw('JSON_CONTAINS(duties, \'"rebuild"\')');
        })
        .delete();
      return {
        token: await issueToken(deps, `mover ${mover}`, 'mover', invited.made_by, {
          duties: fromJson<Duty[]>(invited.duties),
          systems: fromJsonOrNull<number[]>(invited.systems),
          mover,
        }),
      };
    },

    async listMovers() {
      const present = new Set(deps.movers.present());
      const counts = await db('task')
        .where({ state: 'running' })
        .groupBy('mover')
        .select<{ mover: string; n: number }[]>('mover', db.raw('COUNT(*) AS n'));
      const running = new Map(counts.map((c) => [c.mover, Number(c.n)]));
      const rows = await db('mover').orderBy('name').select<MoverRow[]>();
      const sources = await db('source')
        .whereNotNull('read_by')
        .orderBy('name')
        .select<{ name: string; read_by: string }[]>('name', 'read_by');
      return {
        rows: rows.map((r): KnownMover => ({
          name: r.name,
          present: present.has(r.name),
          firstSeen: r.first_seen,
          lastSeen: r.last_seen,
          drained: r.drained === 1,
          tasks: r.tasks,
          place: r.place,
          duties: fromJson<KnownMover['duties']>(r.duties),
          hardware: fromJson<Hardware>(r.hardware),
          latest: fromJson<HostSample>(r.latest),
          running: running.get(r.name) ?? 0,
          reads: sources.filter((s) => s.read_by === r.name).map((s) => s.name),
        })),
      };
    },

    async moverSamples({ params: { id }, query }) {
      found(await db('mover').where({ name: id }).first('name'));
      const rows = await db('mover_sample')
        .where({ mover: id })
        .where('at', '>=', query.from ?? now() - dayMs)
        .orderBy('at')
        .select<{ at: number; sample: unknown }[]>('at', 'sample');
      return { rows: rows.map((r) => ({ at: r.at, ...fromJson<HostSample>(r.sample) })) };
    },

    async changeMover({ params: { id }, body, actor }) {
      await inTransaction(db, async (trx) => {
        found(await trx('mover').where({ name: id }).forUpdate().first('name'));
        await trx('mover').where({ name: id }).update(body);
        await appendAudit(trx, deps.clock.now(), {
          actor: actor.name,
          action: 'mover.change',
          object: `mover ${id}`,
          detail: JSON.stringify(body),
        });
      });
      deps.movers.workAppeared();
      return {};
    },

    async forgetMover({ params: { id }, actor }) {
      if (deps.movers.present().includes(id))
        throw new ApiError('NOT_NOW', undefined, 'This mover is at work. Stop it first, or drain it.');
      const read = await db('source').where({ read_by: id }).orderBy('name').select<{ name: string }[]>('name');
      if (read.length)
        throw new ApiError(
          'IN_USE',
          undefined,
          `It reads ${formatFirst(
            read.map((s) => s.name),
            5,
          )}: name another mover there first.`,
        );
      const tokens = await inTransaction(db, async (trx) => {
        if (!(await trx('mover').where({ name: id }).delete())) throw new ApiError('NOT_FOUND');
        await trx('mover_sample').where({ mover: id }).delete();
        const held = await trx('api_token').where({ mover: id }).select<{ id: number }[]>('id');
        await trx('api_token').where({ mover: id }).delete();
        await appendAudit(trx, deps.clock.now(), { actor: actor.name, action: 'mover.forget', object: `mover ${id}` });
        return held;
      });
      for (const token of tokens) deps.calls.end(keyOfToken(token.id));
      return {};
    },
  };
}

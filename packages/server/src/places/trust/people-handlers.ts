import type { Person, Role } from '@lithodex/contract';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import { refuseTaken } from '../../base/db/taken';
import type { Deps } from '../../acts/deps';
import { ApiError, found } from '../../base/errors';
import { remitOf } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { changePerson, changedBy, endAccess, keepOneAdministrator } from '../../acts/people/change-person';
import { refuseWeak } from '../../acts/people/password-strength';
import { hashPassword } from '../../records/people/passwords';
import { askSecondPerson } from '../../acts/people/second-person';

type PeopleHandlers = Pick<Handlers, 'listPeople' | 'addPerson' | 'changePerson' | 'removePerson'>;

interface PersonRow {
  readonly id: number;
  readonly name: string;
  readonly display: string;
  readonly role: Role;
  readonly password_hash: string;
  readonly remit: number[] | string | null;
  readonly disabled: 0 | 1;
  readonly code_secret: string | null;
  readonly subject: string | null;
}

export function peopleHandlers(deps: Deps): PeopleHandlers {
  const { db, clock } = deps;
  return {
    async listPeople() {
      const rows = await db('person').orderBy('name').select<PersonRow[]>();
      const keys = new Set(
        (await db('passkey').distinct('person_id').select<{ person_id: number }[]>('person_id')).map((k) => k.person_id),
      );
      return {
        rows: rows.map((r): Person => ({
          id: r.id,
          name: r.name,
          display: r.display,
          role: r.role,
          remit: remitOf(r),
          disabled: r.disabled === 1,
          second: r.code_secret ? (keys.has(r.id) ? 'both' : 'code') : keys.has(r.id) ? 'passkey' : 'none',
          organisation: r.subject !== null,
        })),
      };
    },

    async addPerson({ body, actor }) {
      await refuseWeak(body.password, body.name, body.display);
      const password = await hashPassword(body.password);
      const id = await inTransaction(db, async (trx) => {
        await refuseTaken(trx('person').where({ name: body.name }));
        const [created] = (await trx('person').insert({
          name: body.name,
          display: body.display,
          role: body.role,
          password_hash: password,
          remit: body.remit ? JSON.stringify(body.remit) : null,
          must_change: true,
          created_at: clock.now(),
        })) as [number];
        await changedBy(trx, created, actor);
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'person.add', object: `person ${body.name}`, detail: body.role });
        return created;
      });
      return { id };
    },

    async changePerson({ params, body, actor }) {
      const row = found(await db('person').where({ id: params.id, disabled: false }).first<PersonRow | undefined>());
      if (row.role !== body.role) {
        const effect = `${row.display} (${row.name}) is ${body.role} in the place of ${row.role}`;
        const act = { kind: 'person.role' as const, id: row.id, ...body };
        return { request: await askSecondPerson(deps, actor, `person ${row.id}`, effect, act) };
      }
      await changePerson(deps, params.id, body, actor.name, async (trx) => changedBy(trx, row.id, actor));
      return { request: null };
    },

    async removePerson({ params, actor }) {
      const row = found(await db('person').where({ id: params.id, disabled: false }).first<PersonRow | undefined>());
      if (row.id === actor.personId) throw new ApiError('NOT_NOW', undefined, 'You can not bar yourself.');
      await inTransaction(db, async (trx) => {
        await keepOneAdministrator(trx, row);
        await trx('person').where({ id: row.id }).update({ disabled: true });
        await endAccess(deps, trx, row.id);
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'person.bar', object: `person ${row.name}` });
      });
      return {};
    },
  };
}

import type { SavedFilter } from '@lithodex/contract';
import { fromJson } from '../../base/db/json';
import type { Deps } from '../../acts/deps';
import { ApiError } from '../../base/errors';
import type { Actor } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';

const mostKept = 50;

/** Named filters belong to people; a token has none. */
export function savedFilterHandlers({ db }: Deps): Pick<Handlers, 'listFilters' | 'saveFilter' | 'removeFilter'> {
  const ownerOf = (actor: Actor) => {
    if (actor.by !== 'session') throw new ApiError('INVALID', undefined, 'Filters belong to people, not to tokens. Nothing was changed.');
    return actor.personId;
  };
  return {
    async listFilters({ actor }) {
      if (actor.by !== 'session') return { rows: [] };
      const rows = await db('saved_filter')
        .where({ person_id: actor.personId })
        .orderBy('name')
        .select<{ id: number; name: string; query: unknown }[]>('id', 'name', 'query');
      return { rows: rows.map(({ id, name, query }) => ({ id, name, query: fromJson<SavedFilter['query']>(query) })) };
    },

    async saveFilter({ body, actor }) {
      const person = ownerOf(actor);
      const kept = await db('saved_filter')
        .where({ person_id: person })
        .whereNot({ name: body.name })
        .count({ n: '*' })
        .first<{ n: number }>();
      if (Number(kept?.n) >= mostKept)
        throw new ApiError('INVALID', undefined, `More than ${mostKept} filters nobody finds again. Forget one first.`);
      const row = { person_id: person, name: body.name, query: JSON.stringify(body.query) };
      await db('saved_filter').insert(row).onConflict(['person_id', 'name']).merge(['query']);
      return await db('saved_filter').where({ person_id: person, name: body.name }).first<{ id: number }>('id');
    },

    async removeFilter({ params, actor }) {
      if (
        !(await db('saved_filter')
          .where({ id: params.id, person_id: ownerOf(actor) })
          .delete())
      )
        throw new ApiError('NOT_FOUND');
      return {};
    },
  };
}

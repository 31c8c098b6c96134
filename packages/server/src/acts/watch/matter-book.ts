import type { FoundMatter, Matter } from '@lithodex/contract';
import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { ApiError } from '../../base/errors';
import type { Actor } from '../../base/http/access';

const dayMs = 86_400_000;
/** Looks so near to each other are one visit. */
const visitMs = 1_800_000;
const levels: readonly FoundMatter['level'][] = ['absent', 'warning', 'fault'];

interface MatterRow {
  readonly id: string;
  readonly opened_at: number;
  readonly closed_at: number | null;
  readonly owner_id: number | null;
  readonly owner: string | null;
  readonly note: string;
  readonly noted_by: string | null;
  readonly noted_at: number | null;
  readonly put_off: number | null;
  readonly put_off_level: FoundMatter['level'] | null;
}

const rowsIn = (db: Knex) =>
  db('matter as m').leftJoin('person as p', 'p.id', 'm.owner_id').whereNull('m.closed_at').select<MatterRow[]>('m.*', 'p.display as owner');

/**
 * Remembers which matters there are. One that comes back within a day is the same one; after that it is a new one, without the owner and note
 * it had.
 */
export async function rememberMatters({ db, clock }: Deps, found: readonly FoundMatter[]): Promise<void> {
  const now = clock.now();
  await inTransaction(db, async (trx) => {
    const rows = new Map((await trx('matter').forUpdate().select<MatterRow[]>()).map((r) => [r.id, r]));
    for (const matter of found) {
      const row = rows.get(matter.id);
      rows.delete(matter.id);
      if (row?.closed_at === null) continue;
      if (row && now - row.closed_at < dayMs) {
        await trx('matter').where({ id: matter.id }).update({ closed_at: null });
        continue;
      }
      await trx('matter').where({ id: matter.id }).delete();
      await trx('matter').insert({ id: matter.id, opened_at: now });
    }
    const over = [...rows.values()].filter((r) => r.closed_at === null).map((r) => r.id);
    await trx('matter').whereIn('id', over).update({ closed_at: now });
    await trx('matter')
      .where('closed_at', '<', now - 7 * dayMs)
      .delete();
  });
}

/** What comes up after this moment is new to a person; nothing is to one who never looked. */
async function seenUntil({ db, clock }: Deps, actor: Actor): Promise<number> {
  if (actor.by !== 'session') return Infinity;
  const look = await db('look').where({ person_id: actor.personId }).first<{ at: number; before_at: number } | undefined>();
  if (!look) return Infinity;
  return clock.now() - look.at > visitMs ? look.at : look.before_at;
}

/** Says that a person looks now. */
export async function rememberLook({ db, clock }: Deps, actor: Actor): Promise<void> {
  if (actor.by !== 'session') return;
  const now = clock.now();
  const look = await db('look').where({ person_id: actor.personId }).first<{ at: number; before_at: number } | undefined>();
  const before = !look ? now : now - look.at > visitMs ? look.at : look.before_at;
  await db('look').insert({ person_id: actor.personId, at: now, before_at: before }).onConflict('person_id').merge(['at', 'before_at']);
}

interface MatterLists {
  readonly matters: Matter[];
  readonly putOff: Matter[];
}

/** Matters with what people made of them, as one person sees them. */
export async function presentMatters(deps: Deps, found: readonly FoundMatter[], actor: Actor): Promise<MatterLists> {
  const now = deps.clock.now();
  const rows = new Map((await rowsIn(deps.db)).map((r) => [r.id, r]));
  const seen = await seenUntil(deps, actor);
  const matters = found.map((matter): Matter => {
    const row = rows.get(matter.id);
    const opened = row?.opened_at ?? now;
    const waits =
      row?.put_off != null && row.put_off > now && levels.indexOf(matter.level) <= levels.indexOf(row.put_off_level ?? 'absent');
    return {
      ...matter,
      since: Math.min(matter.since, opened),
      fresh: opened > seen,
      owner: row?.owner_id && row.owner !== null ? { id: row.owner_id, name: row.owner } : null,
      note: row?.note ? { text: row.note, by: row.noted_by ?? '', at: row.noted_at ?? opened } : null,
      putOff: waits ? row.put_off : null,
    };
  });
  return { matters: matters.filter((m) => m.putOff === null), putOff: matters.filter((m) => m.putOff !== null) };
}

/** Who can take a matter on. */
export const helpers = (db: Knex): Promise<{ id: number; name: string }[]> =>
  db('person').where({ disabled: false }).whereIn('role', ['administrator', 'operator']).orderBy('display').select('id', 'display as name');

interface Change {
  readonly owner?: number | null | undefined;
  readonly note?: string | undefined;
  readonly putOff?: number | null | undefined;
}

/** Changes what is kept of a matter that is there. Throws NOT_FOUND for one that is not, INVALID for an owner who can't take it or a time that has passed. */
export async function changeMatter(deps: Deps, found: readonly FoundMatter[], id: string, change: Change, actor: Actor): Promise<void> {
  const { db, clock } = deps;
  const now = clock.now();
  const matter = found.find((m) => m.id === id);
  if (!matter) throw new ApiError('NOT_FOUND', undefined, 'This matter is settled.');
  if (change.putOff != null && change.putOff <= now) throw new ApiError('INVALID', [{ at: 'body.putOff' }], 'Choose a time to come.');
  if (change.owner != null && !(await helpers(db)).some((p) => p.id === change.owner))
    throw new ApiError('INVALID', [{ at: 'body.owner' }], 'Only administrators and operators can take a matter on.');
  await inTransaction(db, async (trx) => {
    await trx('matter').insert({ id, opened_at: now }).onConflict('id').ignore();
    await trx('matter')
      .where({ id })
      .update({
        closed_at: null,
        ...(change.owner !== undefined && { owner_id: change.owner }),
        ...(change.note !== undefined && { note: change.note, noted_by: actor.display, noted_at: now }),
        ...(change.putOff !== undefined && { put_off: change.putOff, put_off_level: matter.level }),
      });
    await appendAudit(trx, now, { actor: actor.name, action: 'matter.change', object: `matter ${id}`, detail: JSON.stringify(change) });
  });
  await deps.events.emit('matter');
}

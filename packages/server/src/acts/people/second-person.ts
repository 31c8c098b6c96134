import type { PolicyBody, Role } from '@lithodex/contract';
import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import type { Deps } from '../deps';
import { ApiError } from '../../base/errors';
import { inTransaction } from '../../base/db/open';
import type { Actor } from '../../base/http/access';
import type { Loss } from '../policies/promises';

/** What is done only when a second person agrees, with all that is needed to do it then. */
export type Act =
  | { readonly kind: 'policy.change'; readonly id: number; readonly body: PolicyBody }
  | { readonly kind: 'point.release'; readonly id: string }
  | { readonly kind: 'target.forget'; readonly id: string }
  | { readonly kind: 'target.settle'; readonly id: string }
  | { readonly kind: 'person.role'; readonly id: number; readonly role: Role; readonly remit: readonly number[] | null };

export interface RequestRow {
  readonly id: number;
  readonly kind: Act['kind'];
  readonly subject: string;
  readonly effect: string;
  readonly act: unknown;
  /** What it would have taken from promises when it was asked for; null where that is not counted. */
  readonly loss: unknown;
  readonly asked_by: number;
  readonly asked_at: number;
  readonly state: 'waiting' | 'done' | 'refused' | 'lapsed' | 'failed';
  readonly decided_by: number | null;
  readonly decided_at: number | null;
  readonly outcome: string;
}

const dayMs = 86_400_000;
/** A request nobody decides lapses. */
export const requestDays = 7;
/** Accounts younger than this can't agree: else one person could make the second one for the purpose. */
const leastAccountAgeMs = dayMs;

/** Remembers an act until a second person decides. Throws SECOND_PERSON for tokens, NOT_NOW while the same thing waits already. */
export async function askSecondPerson(deps: Deps, actor: Actor, subject: string, effect: string, act: Act, loss?: Loss): Promise<number> {
  const now = deps.clock.now();
  const asker = actor.personId;
  if (actor.by !== 'session' || asker === null)
    throw new ApiError(
      'SECOND_PERSON',
      undefined,
      `${effect}. Only a person who is signed in can ask for this, so that another can agree. Nothing was changed.`,
    );
  const id = await inTransaction(deps.db, async (trx) => {
    const waiting = await trx('request')
      .where({ subject, state: 'waiting' })
      .where('asked_at', '>', now - requestDays * dayMs)
      .forUpdate()
      .first<{ id: number } | undefined>('id');
    if (waiting)
      throw new ApiError(
        'NOT_NOW',
        undefined,
        'A change of this waits for a second person already. It has to be decided or withdrawn first, under Trust.',
      );
    const row = {
      kind: act.kind,
      subject,
      effect: effect.slice(0, 1000),
      act: JSON.stringify(act),
      loss: loss ? JSON.stringify(loss) : null,
      asked_by: asker,
      asked_at: now,
      state: 'waiting',
    };
    const [created] = (await trx('request').insert(row)) as [number];
    await appendAudit(trx, now, {
      actor: actor.name,
      action: 'request.ask',
      object: subject,
      detail: `request ${created}: ${effect}`.slice(0, 2000),
    });
    return created;
  });
  await deps.events.emit('request');
  return id;
}

/** Why somebody can't be the second person of a request; '' when they can. */
export async function whyNot(db: Knex, now: number, actor: Actor, request: Pick<RequestRow, 'asked_by'>): Promise<string> {
  const { personId } = actor;
  if (actor.by !== 'session' || personId === null) return 'Only a person who is signed in can agree.';
  if (actor.role !== 'administrator') return 'Only an administrator can agree.';
  if (personId === request.asked_by) return 'You asked for it, so another administrator has to agree.';
  if (await isOf(db, request.asked_by, personId)) return 'Whoever asked for this made or changed your account, or one that did.';
  const person = await db('person').where({ id: personId }).first<{ created_at: number }>('created_at');
  return now - person.created_at < leastAccountAgeMs ? 'Your account is less than a day old.' : '';
}

/** Whether somebody made or changed an account, or one that made or changed it, and so on. */
async function isOf(db: Knex, asker: number, account: number): Promise<boolean> {
  const rows = await db('person_change').select<{ person_id: number; by_id: number }[]>();
  const met = new Set([account]);
  const waiting = [account];
  for (let at = waiting.pop(); at !== undefined; at = waiting.pop())
    for (const { person_id, by_id } of rows)
      if (person_id === at && !met.has(by_id)) {
        met.add(by_id);
        waiting.push(by_id);
      }
  return met.has(asker);
}

/** Remembers that somebody made or changed an account: they never have it agree to what they ask for. A token stands for whoever it belongs to. */
export async function rememberChange(trx: Knex.Transaction, personId: number, by: number): Promise<void> {
  if (personId !== by) await trx('person_change').insert({ person_id: personId, by_id: by }).onConflict().ignore();
}

import { randomBytes } from 'node:crypto';
import type { Role } from '@lithodex/contract';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { tokenHash } from '../../base/http/access';
import type { Duty } from '../../base/http/duties';

/** What a token is bound to; without any of it, to nothing. */
export interface TokenBounds {
  /** Of a mover. */
  readonly duties?: readonly Duty[];
  readonly mover?: string;
  readonly systems?: readonly number[] | null;
  /** Whose it is, and what it may act for. */
  readonly ownerId?: number | null;
  readonly remit?: readonly number[] | null;
  /** ms. */
  readonly expiresAt?: number | null;
}

/** A secret of 256 bits. */
export const newSecret = (prefix: string): string => `${prefix}_${randomBytes(32).toString('base64url')}`;

const jsonOrNull = (value: unknown) => (value === undefined || value === null ? null : JSON.stringify(value));

/** Makes a token; only its hash is kept. */
export async function issueToken(
  deps: Pick<Deps, 'db' | 'clock'>,
  name: string,
  role: Role | 'mover',
  actor: string,
  { duties, mover, systems, ownerId, remit, expiresAt }: TokenBounds = {},
): Promise<string> {
  const token = newSecret('lxt');
  await inTransaction(deps.db, async (trx) => {
    await trx('api_token').insert({
      name,
      role,
      hash: tokenHash(token),
      created_at: deps.clock.now(),
      duties: jsonOrNull(duties),
      mover: mover ?? null,
      systems: jsonOrNull(systems),
      owner_id: ownerId ?? null,
      remit: jsonOrNull(remit),
      expires_at: expiresAt ?? null,
    });
    await appendAudit(trx, deps.clock.now(), {
      actor,
      action: 'token.add',
      object: `token ${name}`,
      detail: [role, ...(duties ?? [])].join(' '),
    });
  });
  return token;
}

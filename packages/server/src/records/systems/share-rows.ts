import type { Share, ShareBody } from '@lithodex/contract';
import type { ShareAddress, ShareOpener, ShareRef } from '@lithodex/kinds';
import { fromJson } from '../../base/db/json';
import type { Secrets } from '../../base/secrets';

/** A share as it is kept. */
export interface ShareRow {
  readonly id: number;
  readonly name: string;
  readonly address: unknown;
  readonly account: string;
  /** What opens it, sealed. */
  readonly secret: Buffer;
}

const purpose = (id: number) => `share ${id}`;

/** A share as movers need it. */
export function shareRef(secrets: Secrets, { id, address, secret }: ShareRow): ShareRef {
  return { address: fromJson<ShareAddress>(address), opener: JSON.parse(secrets.open(purpose(id), secret)) as ShareOpener };
}

export const sealedShare = (secrets: Secrets, id: number, opener: ShareOpener): Buffer => secrets.seal(purpose(id), JSON.stringify(opener));

export const columnsOf = ({ name, address }: ShareBody, { account }: ShareOpener) => ({ name, address: JSON.stringify(address), account });

export const toShare = ({ id, name, address, account }: ShareRow): Share => ({
  id,
  name,
  address: fromJson<ShareAddress>(address),
  account,
});

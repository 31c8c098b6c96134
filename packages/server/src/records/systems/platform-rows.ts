import type { Platform, PlatformBody, PlatformOpener, PlatformRef } from '@lithodex/contract';
import type { DataWay, PlatformFamily } from '@lithodex/kinds';
import { fromJson } from '../../base/db/json';
import type { Secrets } from '../../base/secrets';

export interface PlatformRow {
  readonly id: number;
  readonly name: string;
  /** {@link PlatformAddress} as JSON. */
  readonly address: unknown;
  /** What opens it, sealed. */
  readonly secret: Buffer;
  readonly opener_ends: number | null;
  readonly read_at: number | null;
  readonly tried_at: number | null;
  readonly trouble: string | null;
  readonly readers: number | null;
}

/** What may be shown of how a platform is reached. */
interface PlatformAddress {
  readonly endpoint: string;
  readonly by: PlatformOpener['by'];
  readonly account: string;
  /** Platforms that were connected before have none: over the network. */
  readonly way?: DataWay;
  /** Those have none either: hosts. */
  readonly family?: PlatformFamily;
}

const purpose = (id: number) => `source ${id}`;

/** A platform as movers need it. */
export function platformRef(secrets: Secrets, { id, address, secret }: Pick<PlatformRow, 'id' | 'address' | 'secret'>): PlatformRef {
  const { endpoint, way = 'network', family = 'hosts' } = fromJson<PlatformAddress>(address);
  return { id, endpoint, way, family, opener: JSON.parse(secrets.open(purpose(id), secret)) as PlatformOpener };
}

export function sealedOpener(secrets: Secrets, id: number, opener: PlatformOpener): Buffer {
  return secrets.seal(purpose(id), JSON.stringify(opener));
}

export function familyOf({ address }: Pick<PlatformRow, 'address'>): PlatformFamily {
  return fromJson<PlatformAddress>(address).family ?? 'hosts';
}

export function addressOf({ endpoint, way, family }: PlatformBody, { by }: PlatformOpener, account: string): string {
  return JSON.stringify({ endpoint, by, account, way, family } satisfies PlatformAddress);
}

export function toPlatform(row: PlatformRow, machines: number): Platform {
  return {
    id: row.id,
    name: row.name,
    way: 'network',
    family: 'hosts',
    ...fromJson<PlatformAddress>(row.address),
    passwordEnds: row.opener_ends,
    readAt: row.read_at,
    trouble: row.trouble,
    machines,
    readers: row.readers,
  };
}

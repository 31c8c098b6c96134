import type { System } from '@lithodex/contract';
import type { From, SystemAddress } from '@lithodex/kinds';
import { fromJson } from '../../base/db/json';
import type { Secrets } from '../../base/secrets';

export interface SystemRow {
  readonly id: number;
  readonly name: string;
  readonly location: string;
  /** {@link SystemAddress} as JSON. */
  readonly address: unknown;
  /** What opens it, sealed. */
  readonly secret: Buffer;
  readonly opener_ends: number | null;
  readonly read_at: number | null;
  readonly tried_at: number | null;
  readonly trouble: string | null;
  /** The mover that reads it; null for whichever comes first. */
  readonly read_by: string | null;
}

/** Kinds of sources that are such systems. */
export const systemKinds: readonly SystemAddress['kind'][] = ['database'];

const purpose = (id: number) => `source ${id}`;

export function sealedSecret(secrets: Secrets, id: number, secret: string): Buffer {
  return secrets.seal(purpose(id), secret);
}

export const addressOfRow = ({ address }: Pick<SystemRow, 'address'>): SystemAddress => fromJson<SystemAddress>(address);
export const secretOfRow = (secrets: Secrets, { id, secret }: Pick<SystemRow, 'id' | 'secret'>): string =>
  secrets.open(purpose(id), secret);

/** What a mover finds there and how, with what opens it. */
export function fromOfAddress(id: number | null, address: SystemAddress, secret: string): Extract<From, { kind: SystemAddress['kind'] }> {
  const { kind, ...rest } = address;
  return { kind, server: { ...rest, kind, id, password: secret } };
}

/** The same of a system that is kept. */
export function fromOfRow(secrets: Secrets, row: Pick<SystemRow, 'id' | 'address' | 'secret'>): ReturnType<typeof fromOfAddress> {
  return fromOfAddress(row.id, addressOfRow(row), secretOfRow(secrets, row));
}

export function toSystem(row: SystemRow, workloads: System['workloads']): System {
  return {
    id: row.id,
    name: row.name,
    location: row.location,
    address: addressOfRow(row),
    readBy: row.read_by,
    credentialEnds: row.opener_ends,
    readAt: row.read_at,
    trouble: row.trouble,
    workloads,
  };
}

/** Whether what opens one address may be sent to the other: nothing of where it goes is different. Replicas may be fewer. */
export function opensBoth(a: SystemAddress, b: SystemAddress): boolean {
  const known = (a.replicas?.members ?? []).map((m) => `${m.host}:${m.port}`);
  const same =
    a.host === b.host && a.port === b.port && a.family === b.family && a.encrypted === b.encrypted && a.authority === b.authority;
  return same && (b.replicas?.members ?? []).every((m) => known.includes(`${m.host}:${m.port}`));
}

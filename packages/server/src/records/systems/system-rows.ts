import type { System } from '@lithodex/contract';
import {
  TenantSecrets,
  type ApplicationFrom,
  type BucketFrom,
  type DatabaseFrom,
  type From,
  type ShareFrom,
  type SystemAddress,
  type TenantFrom,
  type TenantMember,
} from '@lithodex/kinds';
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
export const systemKinds: readonly SystemAddress['kind'][] = ['database', 'tenant', 'bucket', 'application', 'share'];

const purpose = (id: number) => `source ${id}`;

export function sealedSecret(secrets: Secrets, id: number, secret: string): Buffer {
  return secrets.seal(purpose(id), secret);
}

export const addressOfRow = ({ address }: Pick<SystemRow, 'address'>): SystemAddress => fromJson<SystemAddress>(address);
export const secretOfRow = (secrets: Secrets, { id, secret }: Pick<SystemRow, 'id' | 'secret'>): string =>
  secrets.open(purpose(id), secret);

type FromSystem = Extract<From, { kind: SystemAddress['kind'] }>;

/** What is meant of a system that holds many. */
interface Which {
  readonly member?: TenantMember | null;
  readonly bucket?: string;
  readonly namespace?: string;
  readonly share?: string;
}

/** What a mover finds there and how, with what opens it. */
export function fromOfAddress(
  id: number | null,
  address: SystemAddress,
  secret: string,
  { member = null, bucket = '', namespace = '', share = '' }: Which = {},
): FromSystem {
  if (address.kind === 'database') return { kind: 'database', server: { ...address, id, password: secret } };
  if (address.kind === 'bucket') return { kind: 'bucket', server: { ...address, id, secretKey: secret }, bucket };
  if (address.kind === 'application') return { kind: 'application', server: { ...address, id, token: secret }, namespace };
  if (address.kind === 'share') return { kind: 'share', server: { ...address, id, password: secret }, share };
  return { kind: 'tenant', server: { ...address, id, secrets: TenantSecrets.parse(JSON.parse(secret)) }, member };
}

type Opened = Pick<SystemRow, 'id' | 'address' | 'secret'>;
/** The same of a system that is kept. */
export function fromOfRow(secrets: Secrets, row: Opened, which: Which = {}): FromSystem {
  return fromOfAddress(row.id, addressOfRow(row), secretOfRow(secrets, row), which);
}

/** The same of one that is known to be a database server. */
export const databaseOfRow = (secrets: Secrets, row: Opened): DatabaseFrom => fromOfRow(secrets, row) as DatabaseFrom;

/** The same of one that is known to be an office tenant. */
export const tenantOfRow = (secrets: Secrets, row: Opened, member: TenantMember | null): TenantFrom =>
  fromOfRow(secrets, row, { member }) as TenantFrom;

/** The same of one that is known to be an object storage. */
export const bucketOfRow = (secrets: Secrets, row: Opened, bucket: string): BucketFrom => fromOfRow(secrets, row, { bucket }) as BucketFrom;

/** The same of one that is known to be a container cluster. */
export const applicationOfRow = (secrets: Secrets, row: Opened, namespace: string): ApplicationFrom =>
  fromOfRow(secrets, row, { namespace }) as ApplicationFrom;

/** The same of one that is known to be a file server. */
export const shareOfRow = (secrets: Secrets, row: Opened, share: string): ShareFrom => fromOfRow(secrets, row, { share }) as ShareFrom;

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

/** Where a system is and by which account, in short. */
export function addressWords(address: SystemAddress): { readonly endpoint: string; readonly account: string } {
  if (address.kind === 'database') return { endpoint: `${address.family}://${address.host}:${address.port}`, account: address.account };
  if (address.kind === 'bucket') return { endpoint: address.endpoint, account: address.accessKey };
  if (address.kind === 'application') return { endpoint: address.endpoint, account: '' };
  if (address.kind === 'share') return { endpoint: `smb://${address.host}:${address.port}`, account: address.account };
  const { people, mail, groupware, drives, sites, chat } = address;
  const all = [
    people.by === 'list' ? '' : people.url,
    mail && `imap://${mail.host}:${mail.port}`,
    groupware?.url,
    drives?.url,
    sites?.url,
    chat?.url,
  ];
  return { endpoint: all.filter(Boolean).join(' '), account: mail?.account ?? '' };
}

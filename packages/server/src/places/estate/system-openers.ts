import { isDeepStrictEqual } from 'node:util';
import {
  tenantServices,
  TenantSecrets,
  type ApplicationAddress,
  type BucketAddress,
  type DatabaseAddress,
  type FileServerAddress,
  type SystemAddress,
  type TenantAddress,
} from '@lithodex/kinds';
import { ApiError } from '../../base/errors';

interface Kept {
  readonly address: SystemAddress;
  /** What opens it, in the clear. */
  readonly secret: () => string;
}

const refuse = (text: string) => new ApiError('INVALID', [{ at: 'body.secret' }], `${text} Nothing was changed.`);
const elsewhere = 'The address is another one. The password was given for the old one and is not sent elsewhere: say it again.';

/** What opens a system: as given, or as kept for the address it was given for. Throws INVALID. */
export function openerOf(kept: Kept | undefined, address: SystemAddress, given: string | null): string {
  if (address.kind === 'tenant') return openersOfTenant(kept, address, given);
  if (given !== null) return given;
  if (!kept) throw refuse('Say how to sign in.');
  if (!opens(kept.address, address)) throw refuse(elsewhere);
  return kept.secret();
}

function opens(before: SystemAddress, now: DatabaseAddress | BucketAddress | ApplicationAddress | FileServerAddress): boolean {
  if (before.kind === 'database' && now.kind === 'database') return opensBoth(before, now);
  if (before.kind === 'application' && now.kind === 'application')
    return before.endpoint === now.endpoint && before.authority === now.authority;
  if (before.kind === 'share' && now.kind === 'share')
    return before.host === now.host && before.port === now.port && before.account === now.account;
  if (before.kind !== 'bucket' || now.kind !== 'bucket') return false;
  return before.endpoint === now.endpoint && before.accessKey === now.accessKey && before.authority === now.authority;
}

/** Whether what opens one address may be sent to the other: nothing of where it goes is different. Replicas may be fewer. */
export function opensBoth(a: DatabaseAddress, b: DatabaseAddress): boolean {
  const known = (a.replicas?.members ?? []).map((m) => `${m.host}:${m.port}`);
  const same =
    a.host === b.host && a.port === b.port && a.family === b.family && a.encrypted === b.encrypted && a.authority === b.authority;
  return same && (b.replicas?.members ?? []).every((m) => known.includes(`${m.host}:${m.port}`));
}

/** Each service of a tenant is opened by its own secret, which stays where that service does. */
function openersOfTenant(kept: Kept | undefined, address: TenantAddress, given: string | null): string {
  let said: TenantSecrets;
  try {
    said = TenantSecrets.parse(given === null ? {} : JSON.parse(given));
  } catch {
    throw refuse('What opens the services can not be read.');
  }
  const before = kept?.address.kind === 'tenant' ? kept.address : undefined;
  const secrets = kept && before ? TenantSecrets.parse(JSON.parse(kept.secret())) : {};
  const all: TenantSecrets = {};
  for (const service of tenantServices) {
    const now = address[service];
    const needed = now !== null && !(service === 'people' && address.people.by === 'list');
    if (!needed) continue;
    const own = said[service];
    if (own !== undefined) all[service] = own;
    else {
      const known = secrets[service];
      if (known === undefined || !before) throw refuse(`Say what opens ${words[service]}.`);
      const same = isDeepStrictEqual(before[service], now) && before.authority === address.authority;
      if (!same) throw refuse(elsewhere);
      all[service] = known;
    }
  }
  return JSON.stringify(all);
}

const words = {
  people: 'the list of people',
  mail: 'mail',
  groupware: 'calendars and contacts',
  drives: 'drives',
  sites: 'sites',
  chat: 'the chat',
} as const;

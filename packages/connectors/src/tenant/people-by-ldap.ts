import { addressOf, AddressRefused } from '@lithodex/net';
import type { Tenant } from '@lithodex/kinds';
import { Client, InvalidCredentialsError, type Entry } from 'ldapts';
import { SourceError } from '../source-error';
import type { FoundGroup, FoundPerson, People } from './found-people';

const silenceMs = 30_000;
const personClasses = '(|(objectClass=inetOrgPerson)(objectClass=user)(objectClass=posixAccount))';
const groupClasses = '(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=group))';

const one = (entry: Entry, ...keys: string[]): string => {
  for (const key of keys) {
    const value = entry[key];
    const first = Array.isArray(value) ? value[0] : value;
    const text = Buffer.isBuffer(first) ? first.toString('utf8') : first;
    if (text) return text.slice(0, 320);
  }
  return '';
};
const every = (entry: Entry, key: string): string[] => {
  const value = entry[key];
  return (Array.isArray(value) ? value : value === undefined ? [] : [value]).map((v) => (Buffer.isBuffer(v) ? v.toString('utf8') : v));
};

/** People and groups by LDAP. Throws SourceError. */
export async function peopleByLdap(tenant: Tenant & { people: { by: 'ldap' } }): Promise<People> {
  const { people, secrets, authority } = tenant;
  const url = new URL(people.url);
  const host = url.hostname;
  try {
    // what was looked at is what is connected to; certificates are those of the name all the same
    const address = await addressOf(host);
    url.hostname = address.includes(':') ? `[${address}]` : address;
  } catch (error) {
    const why = error instanceof AddressRefused ? error.message.replace(/\.$/, '') : 'its name is not known';
    throw new SourceError('TENANT_AWAY', `the directory: ${why}`);
  }
  const client = new Client({
    url: url.href,
    timeout: silenceMs,
    connectTimeout: silenceMs,
    ...(url.protocol === 'ldaps:' && {
      tlsOptions: { servername: host, minVersion: 'TLSv1.2' as const, ...(authority && { ca: authority }) },
    }),
  });
  try {
    await client.bind(people.account, secrets.people ?? '');
    const search = (filter: string, attributes: string[]) =>
      client.search(people.base, { scope: 'sub', filter, attributes, paged: { pageSize: 500 } });
    const persons = await search(personClasses, ['uid', 'sAMAccountName', 'cn', 'displayName', 'mail', 'employeeType']);
    const groups = await search(groupClasses, ['cn', 'member', 'uniqueMember']);
    return {
      people: persons.searchEntries.flatMap((e): FoundPerson[] => {
        const login = one(e, 'uid', 'sAMAccountName');
        return login
          ? [
              {
                id: key(e.dn),
                login,
                name: one(e, 'displayName', 'cn') || login,
                mail: one(e, 'mail'),
                active: true,
                shared: one(e, 'employeeType') === 'shared',
              },
            ]
          : [];
      }),
      groups: groups.searchEntries.map((e): FoundGroup => ({
        id: key(e.dn),
        name: one(e, 'cn'),
        members: [...every(e, 'member'), ...every(e, 'uniqueMember')].map(key),
      })),
    };
  } catch (error) {
    if (error instanceof SourceError) throw error;
    if (error instanceof InvalidCredentialsError) throw new SourceError('TENANT_REFUSED', 'the directory refused the account');
    const text = error instanceof Error ? error.message.slice(0, 200).replace(/\.$/, '') : '';
    throw new SourceError('TENANT_AWAY', `the directory: ${text}`);
  } finally {
    await client.unbind().catch(() => undefined);
  }
}

/** Names of entries are the same however they are written. */
const key = (dn: string) => dn.replace(/\s*([,=])\s*/g, '$1').toLowerCase();

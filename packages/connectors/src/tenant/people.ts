import { grouped } from '@lithodex/core';
import { TenantFacts, memberId, type FoundWorkload, type Tenant } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import { ChatClient } from './chat-client';
import { DavClient } from './dav-client';
import { listFolder } from './capture-drive';
import type { FoundGroup, FoundPerson, People } from './found-people';
import { peopleByLdap } from './people-by-ldap';
import { peopleByScim } from './people-by-scim';
import { basic } from '../service-client';

/** Who there is. Throws SourceError. */
export async function peopleOf(tenant: Tenant): Promise<People> {
  const { people } = tenant;
  if (people.by === 'scim') return peopleByScim({ ...tenant, people });
  if (people.by === 'ldap') return peopleByLdap({ ...tenant, people });
  const listed = people.logins.map((login): FoundPerson => ({ id: login, login, name: login, mail: '', active: true, shared: false }));
  return { people: listed, groups: [] };
}

/** Names of the groups that each member is in, also through others. Groups that hold each other have no end: each counts once. */
export function groupsOf(groups: readonly FoundGroup[]): Map<string, string[]> {
  const memberships = groups.flatMap((group) => group.members.map((member) => ({ member, group })));
  const above = grouped(memberships, (m) => m.member);
  const found = new Map<string, string[]>();
  for (const member of above.keys()) {
    const names = new Set<string>();
    const seen = new Set<string>();
    const visit = (id: string) => {
      for (const { group } of above.get(id) ?? []) {
        if (seen.has(group.id)) continue;
        seen.add(group.id);
        names.add(group.name);
        visit(group.id);
      }
    };
    visit(member);
    found.set(member, [...names].sort());
  }
  return found;
}

/** Sites: the folders at the top of their server. */
export async function sitesOf(tenant: Tenant): Promise<string[]> {
  const { sites, secrets, authority } = tenant;
  if (!sites) return [];
  const client = new DavClient(sites.url, {
    name: 'the server of sites',
    authorization: basic(sites.account, secrets.sites ?? ''),
    authority,
  });
  try {
    return (await listFolder(client, client.root)).filter((i) => i.folder).map((i) => i.name);
  } finally {
    await client.close();
  }
}

/** Chat rooms: the public ones, and those that somebody is in. */
async function roomsOf(tenant: Tenant, people: readonly FoundPerson[]): Promise<{ id: string; name: string }[]> {
  if (!tenant.chat) return [];
  const client = new ChatClient(tenant);
  try {
    const rooms = new Set((await client.publicRooms()).map((r) => r.id));
    for (const { login } of people) for (const room of await client.joinedRooms(client.userOf(login)).catch(gone)) rooms.add(room);
    const names = new Map(people.map((p) => [client.userOf(p.login), p.name]));
    const found: { id: string; name: string }[] = [];
    for (const id of rooms) {
      const { name, members } = await client.about(id);
      const who = members.map((m) => names.get(m) ?? m).sort();
      found.push({ id, name: name || (who.length ? `Chat of ${who.slice(0, 3).join(', ')}` : id) });
    }
    return found;
  } finally {
    await client.close();
  }
}

/** Somebody who was never there is in no room. */
const gone = (error: unknown): string[] => {
  if (error instanceof SourceError && (error.code === 'TENANT_GONE' || error.code === 'TENANT_REFUSED')) return [];
  throw error;
};

/** Everything of a tenant that can be protected. Throws SourceError. */
export async function membersOf(tenant: Tenant): Promise<FoundWorkload[]> {
  const { people, groups } = await peopleOf(tenant);
  const groupsNow = groupsOf(groups);
  const sites = await sitesOf(tenant);
  const rooms = await roomsOf(tenant, people);
  const facts: unknown[] = [
    ...people.map((p) => ({
      type: p.shared ? 'group' : 'person',
      login: p.login,
      name: p.name,
      mail: p.mail,
      active: p.active,
      groups: groupsNow.get(p.id) ?? [],
    })),
    ...sites.map((name) => ({ type: 'site', login: name, name, mail: '', active: true, groups: [] })),
    ...rooms.map(({ id, name }) => ({ type: 'room', login: id, name: name.slice(0, 120), mail: '', active: true, groups: [] })),
  ];
  const taken = new Set<string>();
  return facts.flatMap((found) => {
    // what a service calls something that no name can be is left out
    const { data } = TenantFacts.safeParse({ ...(found as object), kind: 'tenant' });
    if (!data || taken.has(memberId(data))) return [];
    taken.add(memberId(data));
    return [{ id: memberId(data), name: data.name, facts: data }];
  });
}

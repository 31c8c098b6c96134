import type { Tenant } from '@lithodex/kinds';
import { z } from 'zod';
import { SourceError } from '../source-error';
import type { FoundGroup, FoundPerson, People } from './found-people';
import { basic, bearer, ServiceClient } from '../service-client';

const mostBytes = 64 << 20;
const pageSize = 200;
const most = 200_000;

const Member = z.object({ value: z.string().max(300), type: z.string().max(40).optional() });
const User = z.object({
  id: z.string().max(300),
  userName: z.string().max(300),
  displayName: z.string().max(300).optional(),
  name: z.object({ formatted: z.string().max(300).optional() }).optional(),
  active: z.boolean().default(true),
  userType: z.string().max(100).optional(),
  emails: z.array(z.object({ value: z.string().max(320), primary: z.boolean().optional() })).default([]),
});
const Group = z.object({ id: z.string().max(300), displayName: z.string().max(300), members: z.array(Member).default([]) });
const pageOf = <T extends z.ZodType>(resource: T) =>
  z.object({ totalResults: z.int().nonnegative(), Resources: z.array(resource).default([]) });

/** People and groups by SCIM 2.0 (RFC 7644). A person whose `userType` is `shared` is a mailbox of several. Throws SourceError. */
export async function peopleByScim(tenant: Tenant & { people: { by: 'scim' } }): Promise<People> {
  const { people, secrets, authority } = tenant;
  const secret = secrets.people ?? '';
  const authorization = people.account === null ? bearer(secret) : basic(people.account, secret);
  const client = new ServiceClient({ name: 'the list of people', authorization, authority }, mostBytes);
  const ask = async <T extends z.ZodType>(resource: T, path: string, startIndex: number) => {
    const url = new URL(`${people.url.replace(/\/*$/, '')}/${path}?startIndex=${startIndex}&count=${pageSize}`);
    const { text } = await client.text('GET', url, { headers: { accept: 'application/scim+json' } });
    try {
      return pageOf(resource).parse(JSON.parse(text));
    } catch {
      throw client.unreadable();
    }
  };
  const all = async <T extends z.ZodType>(resource: T, path: string): Promise<z.infer<T>[]> => {
    const found: z.infer<T>[] = [];
    for (;;) {
      const { Resources, totalResults } = await ask(resource, path, found.length + 1);
      found.push(...(Resources as z.infer<T>[]));
      if (Resources.length === 0 || found.length >= totalResults) return found;
      if (found.length > most) throw new SourceError('TENANT_FAILED', 'the list of people has no end');
    }
  };
  try {
    const users = await all(User, 'Users');
    const groups = await all(Group, 'Groups');
    return {
      people: users.map((u): FoundPerson => ({
        id: u.id,
        login: u.userName,
        name: u.displayName ?? u.name?.formatted ?? u.userName,
        mail: (u.emails.find((e) => e.primary) ?? u.emails[0])?.value ?? '',
        active: u.active,
        shared: u.userType === 'shared',
      })),
      groups: groups.map((g): FoundGroup => ({ id: g.id, name: g.displayName, members: g.members.map((m) => m.value) })),
    };
  } finally {
    await client.close();
  }
}

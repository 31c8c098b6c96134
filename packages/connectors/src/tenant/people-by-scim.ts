import { setTimeout as pause } from 'node:timers/promises';
import { AddressRefused, OutgoingClient } from '@lithodex/net';
import type { Tenant } from '@lithodex/kinds';
import { z } from 'zod';
import { SourceError } from '../source-error';
import type { FoundGroup, FoundPerson, People } from './found-people';
import { tooManyWaits, waitOf } from './retry-after';

const silenceMs = 60_000;
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
  const client = new OutgoingClient(mostBytes, silenceMs);
  if (authority !== null) client.trust(authority);
  const secret = secrets.people ?? '';
  const authorization =
    people.account === null ? `Bearer ${secret}` : `Basic ${Buffer.from(`${people.account}:${secret}`).toString('base64')}`;
  const ask = async <T extends z.ZodType>(resource: T, path: string, startIndex: number) => {
    const url = new URL(`${people.url.replace(/\/*$/, '')}/${path}?startIndex=${startIndex}&count=${pageSize}`);
    for (let attempt = 1; ; attempt++) {
      let answer, text;
      try {
        answer = await client.request(url, { method: 'GET', headers: { authorization, accept: 'application/scim+json' } });
        text = await answer.body.text();
      } catch (error) {
        const code = (error as { code?: unknown }).code;
        const why =
          error instanceof AddressRefused ? error.message.replace(/\.$/, '') : typeof code === 'string' ? code : 'it does not answer';
        throw new SourceError('TENANT_AWAY', `the list of people: ${why}`);
      }
      const wait = waitOf(answer.statusCode, answer.headers, attempt);
      if (wait !== undefined && attempt <= tooManyWaits) {
        await pause(wait);
        continue;
      }
      const said = `the list of people answers ${answer.statusCode}`;
      if (answer.statusCode === 401 || answer.statusCode === 403) throw new SourceError('TENANT_REFUSED', said);
      if (answer.statusCode >= 300) throw new SourceError(answer.statusCode >= 500 ? 'TENANT_AWAY' : 'TENANT_FAILED', said);
      try {
        return pageOf(resource).parse(JSON.parse(text));
      } catch {
        throw new SourceError('TENANT_FAILED', 'the list of people can not be read');
      }
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

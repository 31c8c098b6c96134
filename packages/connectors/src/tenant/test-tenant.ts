import { countOf } from '@lithodex/core';
import type { SystemTest, Tenant } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import { collectionsOf, openGroupware } from './capture-groupware';
import { listFolder, openDrive } from './capture-drive';
import { ChatClient } from './chat-client';
import { closeMailbox, openMailbox } from './imap-account';
import type { FoundPerson } from './found-people';
import { peopleOf, sitesOf } from './people';

type Need = SystemTest['needs'][number];

/** So many people a service is tried for: who was made a moment ago may have nothing there yet. */
const tried = 5;

/** Signs in to every service that is connected, and looks whether the account may do there what is needed. */
export async function testTenant(tenant: Tenant): Promise<SystemTest> {
  const needs: Need[] = [];
  const remarks: string[] = [];
  let people: readonly FoundPerson[] = [];
  let found = 0;
  const look = async (right: string, neededFor: string, act: () => Promise<string>) => {
    try {
      remarks.push(await act());
      needs.push({ right, neededFor, missing: false });
    } catch (error) {
      if (!(error instanceof SourceError)) throw error;
      needs.push({ right, neededFor, missing: true });
      remarks.push(error.message);
    }
  };
  await look('list people and groups', 'to know whom to protect, and who is new', async () => {
    const all = await peopleOf(tenant);
    ({ people } = all);
    found += people.length;
    return `${countOf(people.length, 'person', 'people')} in ${countOf(all.groups.length, 'group')}.`;
  });
  const somebody = people.filter((p) => p.active).slice(0, tried);
  if (tenant.mail)
    await look('sign in to mailboxes of others', 'to read mail and to bring it back', () =>
      forSomebody(somebody, async (person) => {
        const client = await openMailbox(tenant, person);
        try {
          const list = await client.list();
          const quick = client.capabilities.has('CONDSTORE')
            ? 'what changed is asked for by number'
            : 'the server keeps no numbers of changes: every folder is compared each time';
          return `Mail: ${countOf(list.length, 'folder')} of ${person.name}; ${quick}.`;
        } finally {
          await closeMailbox(client);
        }
      }),
    );
  if (tenant.groupware)
    await look('read and write calendars and contacts of others', 'to read appointments and contacts and to bring them back', () =>
      forSomebody(somebody, async (person) => {
        const client = openGroupware(tenant, person);
        try {
          const collections = await collectionsOf(client);
          return `Calendars and contacts: ${countOf(collections.length, 'collection')} of ${person.name}.`;
        } finally {
          await client.close();
        }
      }),
    );
  if (tenant.drives)
    await look('read and write drives of others', 'to read files and to bring them back', () =>
      forSomebody(somebody, async (person) => {
        const client = openDrive(tenant, { ...person, type: 'person' });
        try {
          return `Drives: ${countOf((await listFolder(client, client.root)).length, 'item')} at the top of that of ${person.name}.`;
        } finally {
          await client.close();
        }
      }),
    );
  if (tenant.sites)
    await look('read and write sites', 'to read files and pages of sites and to bring them back', async () => {
      const sites = await sitesOf(tenant);
      found += sites.length;
      return `Sites: ${countOf(sites.length, 'site')}.`;
    });
  if (tenant.chat)
    await look('act for people in the chat', 'to read rooms and to bring conversations back', async () => {
      const client = new ChatClient(tenant);
      try {
        await client.whoAmI();
        const rooms = await client.publicRooms();
        found += rooms.length;
        return `Chat: ${countOf(rooms.length, 'public room')}.`;
      } finally {
        await client.close();
      }
    });
  const missing = needs.filter((n) => n.missing);
  const ok = !needs[0]!.missing && needs.some((n, i) => i > 0 && !n.missing);
  const message =
    missing.length === 0
      ? 'Every service answers, and the accounts may do what is needed.'
      : ok
        ? `${countOf(missing.length, 'service')} can not be used as it is.`
        : 'Nothing can be protected like this.';
  return { ok, message, needs, remarks: remarks.map((r) => r.slice(0, 300)), credentialEnds: null, found };
}

/** The first person for whom it works; what kept it from working for the last one is thrown. */
async function forSomebody(people: readonly FoundPerson[], act: (person: FoundPerson) => Promise<string>): Promise<string> {
  let last: unknown = new SourceError('TENANT_GONE', 'nobody is there to try it with');
  for (const person of people)
    try {
      return await act(person);
    } catch (error) {
      if (!(error instanceof SourceError) || error.code !== 'TENANT_GONE') throw error;
      last = error;
    }
  throw last;
}

import { tenantTops, type MemberNow, type TenantFrom } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import { listFolder, openDrive } from './capture-drive';
import { collectionsOf, openGroupware } from './capture-groupware';
import { foldersOf } from './capture-mail';
import { noneYet } from './dav-client';
import { ChatClient } from './chat-client';
import { closeMailbox, mailError, openMailbox } from './imap-account';

const mostFolders = 5000;

type Found = { readonly folders: MemberNow['folders']; readonly free: number | null };

/** What a member has now, service by service. Throws SourceError when nobody is named. */
export async function memberNow({ server, member }: TenantFrom): Promise<MemberNow> {
  if (!member) throw new SourceError('TENANT_GONE', 'nobody is named');
  const isPerson = member.type === 'person' || member.type === 'group';
  const now: MemberNow = { services: [], folders: [] };
  const look = async (tops: readonly string[], act: () => Promise<Found>) => {
    try {
      const { folders, free } = await act();
      now.folders.push(...folders.slice(0, mostFolders));
      for (const top of tops) now.services.push({ top, trouble: '', free });
    } catch (error) {
      const { message } = error instanceof SourceError ? error : mailError(error);
      for (const top of tops) now.services.push({ top, trouble: message.slice(0, 400), free: null });
    }
  };
  if (isPerson && server.mail)
    await look([tenantTops.mail], async () => {
      const client = await openMailbox(server, member);
      try {
        const folders = await foldersOf(client);
        const quota = client.capabilities.has('QUOTA') ? await client.getQuota('INBOX').catch(() => undefined) : undefined;
        const { limit, usage } = (quota ? quota.storage : undefined) ?? {};
        return {
          folders: folders.map((f) => ({ top: tenantTops.mail, name: f.path.slice(0, 1000), items: f.state.messages ?? null })),
          free: limit === undefined ? null : Math.max(0, limit - (usage ?? 0)),
        };
      } finally {
        await closeMailbox(client);
      }
    });
  if (isPerson && server.groupware)
    await look([tenantTops.calendars, tenantTops.contacts], async () => {
      const client = openGroupware(server, member);
      try {
        const found = await collectionsOf(client).catch(noneYet);
        return {
          folders: found.map(({ kind, item }) => ({ top: tenantTops[kind], name: (item.title || item.href).slice(0, 1000), items: null })),
          free: null,
        };
      } finally {
        await client.close();
      }
    });
  if ((isPerson && server.drives) || (member.type === 'site' && server.sites)) {
    const top = isPerson ? tenantTops.drive : tenantTops.files;
    await look([top], async () => {
      const client = openDrive(server, member);
      try {
        const { free } = await client.propfind(client.root, 0, '<d:quota-available-bytes/>');
        const items = await listFolder(client, client.root);
        return { folders: items.filter((i) => i.folder).map((i) => ({ top, name: i.name.slice(0, 1000), items: null })), free };
      } finally {
        await client.close();
      }
    });
  }
  if (member.type === 'room' && server.chat)
    await look([tenantTops.chat], async () => {
      const client = new ChatClient(server);
      try {
        await client.about(member.login);
        return { folders: [], free: null };
      } finally {
        await client.close();
      }
    });
  return now;
}

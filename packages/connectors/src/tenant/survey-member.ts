import { countOf } from '@lithodex/core';
import { tenantTops, type TenantFrom } from '@lithodex/kinds';
import { EngineError } from '@lithodex/engine';
import type { SurveyContext, Surveyed } from '../connector';
import { SourceError } from '../source-error';
import { collectionsOf, openGroupware } from './capture-groupware';
import { listFolder, openDrive } from './capture-drive';
import { foldersOf } from './capture-mail';
import { ChatClient } from './chat-client';
import { closeMailbox, mailError, openMailbox } from './imap-account';

/** Looks whether a member could be backed up: sign-in at every service, and what there is. Reads no items. Throws SourceError when no service answers. */
export async function surveyMember(ctx: SurveyContext, { server, member }: TenantFrom): Promise<Surveyed> {
  if (!member) throw new SourceError('TENANT_GONE', 'nobody is named');
  let items = 0;
  const failures: SourceError[] = [];
  let asked = 0;
  const look = async (top: string, act: () => Promise<{ readonly n: number; readonly text: string }>) => {
    asked++;
    try {
      const { n, text } = await act();
      items += n;
      ctx.say('note', { code: 'FOUND', path: top, message: text });
    } catch (error) {
      const failure = mailError(error);
      if (failure instanceof EngineError) throw failure;
      failures.push(failure);
      ctx.say('warning', { code: 'SERVICE_UNREAD', path: top, message: failure.message });
    }
  };
  const isPerson = member.type === 'person' || member.type === 'group';
  if (isPerson && server.mail)
    await look(tenantTops.mail, async () => {
      const client = await openMailbox(server, member);
      try {
        const folders = await foldersOf(client);
        const n = folders.reduce((sum, f) => sum + (f.state.messages ?? 0), 0);
        return { n, text: `${countOf(n, 'message')} in ${countOf(folders.length, 'folder')}` };
      } finally {
        await closeMailbox(client);
      }
    });
  if (isPerson && server.groupware)
    await look(tenantTops.calendars, async () => {
      const client = openGroupware(server, member, ctx.stopped);
      try {
        const { length } = await collectionsOf(client);
        return { n: length, text: countOf(length, 'calendar or address book', 'calendars and address books') };
      } finally {
        await client.close();
      }
    });
  if ((isPerson && server.drives) || (member.type === 'site' && server.sites))
    await look(isPerson ? tenantTops.drive : tenantTops.files, async () => {
      const client = openDrive(server, member, ctx.stopped);
      try {
        const { length } = await listFolder(client, client.root);
        return { n: length, text: `${countOf(length, 'item')} at the top` };
      } finally {
        await client.close();
      }
    });
  if (member.type === 'room' && server.chat)
    await look(tenantTops.chat, async () => {
      const client = new ChatClient(server, ctx.stopped);
      try {
        const { members } = await client.about(member.login);
        return { n: members.length, text: `${countOf(members.length, 'person', 'people')} in the room` };
      } finally {
        await client.close();
      }
    });
  if (failures[0] && failures.length === asked) throw failures[0];
  return { items, files: items, bytes: 0, warnings: failures.length, missing: 0 };
}

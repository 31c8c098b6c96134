import { countOf } from '@lithodex/core';
import { ChatClient, ChatEvent } from './chat-client';
import type { ItemBack, Restoring } from './restoring';
import { storedBytes } from './stored-bytes';

/** Brings a conversation back as a room of its own, which those of the room get into: what was said is said again, by whom and when it was. */
export async function restoreChat(restoring: Restoring, items: readonly ItemBack[]): Promise<void> {
  const { ctx, tenant, to } = restoring;
  const client = new ChatClient(tenant, ctx.stopped);
  try {
    const { name, topic, members } = await client.about(to.member.login).catch(() => ({ name: '', topic: '', members: [] as string[] }));
    const title = `${name || to.member.name} (archive)`;
    const room = ctx.trial ? '' : await client.makeRoom(title, topic, members);
    let said = 0;
    for (const item of [...items].sort((a, b) => (a.path < b.path ? -1 : 1))) {
      restoring.goOn();
      try {
        let own = 0;
        for (const line of (await storedBytes(item)).toString('utf8').split('\n')) {
          const event = line && ChatEvent.safeParse(JSON.parse(line)).data;
          if (!event || event.type !== 'm.room.message') continue;
          // the key lets the server tell what was said already, should this be done again
          if (!ctx.trial) await client.say(room, `${ctx.taskId}-${event.event_id}`, event);
          own++;
        }
        said += own;
        ctx.moved(item.entry.size);
        await restoring.done(item.path, item.entry, 'write', countOf(own, 'message'));
      } catch (error) {
        await restoring.failed(item.path, item.entry, error);
      }
    }
    restoring.note(ctx.trial ? `${title}: ${countOf(said, 'message')}; nothing was written` : `${title}: 0 → ${countOf(said, 'message')}`);
  } finally {
    await client.close();
  }
}

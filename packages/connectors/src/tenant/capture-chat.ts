import type { TreeEntry } from '@lithodex/engine';
import { tenantTops, type Tenant, type TenantMember } from '@lithodex/kinds';
import { ChatClient, type ChatEvent } from './chat-client';
import { folderState, itemFacts } from './item-facts';
import type { MemberWriting } from './member-writing';

const dayOf = (ts: number) => new Date(ts).toISOString().slice(0, 10);
const ending = '.jsonl';

interface Days {
  /** Events by day, in the order in which the server has them: a day never comes back. */
  readonly days: Map<string, ChatEvent[]>;
  /** The page in which each day begins. */
  readonly begins: Map<string, string>;
  readonly odd: number;
  /** Whether the event that reading went on from was met. */
  readonly found: boolean;
}

async function readDays(out: MemberWriting, client: ChatClient, room: string, since: string, first: string | undefined): Promise<Days> {
  const days = new Map<string, ChatEvent[]>();
  const begins = new Map<string, string>();
  let odd = 0;
  let found = first === undefined;
  let day = '';
  for (let from = since; ;) {
    out.goOn();
    const page = await client.messages(room, from || undefined);
    odd += page.odd;
    for (const event of page.events) {
      found ||= event.event_id === first;
      if (!found) continue;
      // what was said earlier and arrived later stands where it arrived
      day = [day, dayOf(event.origin_server_ts)].sort().at(-1)!;
      if (!begins.has(day)) begins.set(day, from);
      const events = days.get(day);
      if (events) events.push(event);
      else days.set(day, [event]);
    }
    if (!page.end || page.end === from) return { days, begins, odd, found };
    from = page.end;
  }
}

/** Takes a chat room: a file for each day (UTC) with its events, one a line. What the server tells from where the point before ended is read. Throws SourceError. */
export async function captureChat(
  out: MemberWriting,
  tenant: Tenant,
  member: TenantMember,
  base: TreeEntry | undefined,
): Promise<TreeEntry> {
  const client = new ChatClient(tenant, out.ctx.stopped);
  try {
    const { name, topic } = await client.about(member.login);
    const known = base && folderState(base);
    const goesOn = known?.since !== undefined && known.first !== undefined;
    let read = await readDays(out, client, member.login, goesOn ? known.since! : '', goesOn ? known.first : undefined);
    // the server does not know that event any more: everything is read again
    if (!read.found) read = await readDays(out, client, member.login, '', undefined);
    const { days, odd } = read;
    if (odd) out.warn('EVENT_UNREAD', '', `${odd} events could not be understood and are left out`, true);
    const entries: TreeEntry[] = [];
    const firstNew = [...days.keys()][0];
    for (const entry of await out.before(base))
      if (firstNew === undefined || entry.name.slice(0, 10) < firstNew) entries.push(out.reused(entry, itemFacts(entry)));
    for (const [day, events] of days) {
      const messages = events.filter((e) => e.type === 'm.room.message');
      const text = Buffer.from(events.map((e) => `${JSON.stringify(e)}\n`).join(''));
      const last = events.at(-1)!.origin_server_ts;
      const facts = { type: 'day' as const, room: member.login, title: name || member.name, messages: messages.length };
      entries.push(out.item(`${day}${ending}`, await out.content(text), last, facts));
      await out.passed();
    }
    // the last day may go on: its page is read again
    const last = [...days].at(-1);
    const state = {
      path: member.login,
      title: name,
      topic,
      since: last ? (read.begins.get(last[0]) ?? '') : known?.since,
      first: last ? last[1][0]!.event_id : known?.first,
    };
    return await out.folder(tenantTops.chat, entries, state);
  } finally {
    await client.close();
  }
}

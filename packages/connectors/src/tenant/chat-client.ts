import type { Tenant } from '@lithodex/kinds';
import { z } from 'zod';
import { SourceError } from '../source-error';
import { bearer, ServiceClient } from '../service-client';

const mostBytes = 64 << 20;

export const ChatEvent = z.looseObject({
  event_id: z.string().max(300),
  type: z.string().max(300),
  sender: z.string().max(300),
  origin_server_ts: z.int().nonnegative().max(8_640_000_000_000_000),
  state_key: z.string().optional(),
  content: z.looseObject({}),
});
export type ChatEvent = z.infer<typeof ChatEvent>;

const Messages = z.object({ chunk: z.array(z.unknown()).default([]), end: z.string().optional(), start: z.string().optional() });
const Rooms = z.object({ joined_rooms: z.array(z.string().max(300)) });
const Public = z.object({
  chunk: z.array(z.object({ room_id: z.string().max(300), name: z.string().max(300).optional() })),
  next_batch: z.string().optional(),
});

/** Asks a chat server by the client-server API of Matrix, as an application service that may act for its people. */
export class ChatClient {
  private readonly client: ServiceClient;
  private readonly base: string;

  constructor(
    private readonly tenant: Tenant,
    stopped?: () => boolean,
  ) {
    if (!tenant.chat) throw new SourceError('TENANT_FAILED', 'chat is not connected');
    this.base = tenant.chat.url.replace(/\/*$/, '');
    const { authority, secrets } = tenant;
    this.client = new ServiceClient({ name: 'the chat server', authorization: bearer(secrets.chat ?? ''), authority, stopped }, mostBytes);
  }

  /** The id of a person. */
  userOf(login: string): string {
    return `@${login}:${this.tenant.chat!.domain}`;
  }

  private async ask<T>(
    schema: z.ZodType<T>,
    method: 'GET' | 'POST' | 'PUT',
    path: string,
    query: Record<string, string>,
    body?: object,
  ): Promise<T> {
    const url = new URL(`${this.base}/_matrix/client/v3/${path}`);
    for (const [key, value] of Object.entries(query)) url.searchParams.set(key, value);
    const sent = body && { headers: { 'content-type': 'application/json' }, body: () => JSON.stringify(body) };
    const { text } = await this.client.text(method, url, sent);
    try {
      return schema.parse(JSON.parse(text));
    } catch {
      throw this.client.unreadable();
    }
  }

  async whoAmI(): Promise<string> {
    return (await this.ask(z.object({ user_id: z.string().max(300) }), 'GET', 'account/whoami', {})).user_id;
  }

  async joinedRooms(userId?: string): Promise<string[]> {
    return (await this.ask(Rooms, 'GET', 'joined_rooms', userId ? { user_id: userId } : {})).joined_rooms;
  }

  async publicRooms(): Promise<{ readonly id: string; readonly name: string }[]> {
    const all: { id: string; name: string }[] = [];
    for (let since = ''; ;) {
      const { chunk, next_batch } = await this.ask(Public, 'GET', 'publicRooms', { limit: '200', ...(since && { since }) });
      all.push(...chunk.map((r) => ({ id: r.room_id, name: r.name ?? '' })));
      if (!next_batch || all.length > 20_000) return all;
      since = next_batch;
    }
  }

  /** Name of a room and who is in it. */
  async about(room: string): Promise<{ readonly name: string; readonly topic: string; readonly members: string[] }> {
    const state = await this.ask(z.array(z.unknown()), 'GET', `rooms/${encodeURIComponent(room)}/state`, {});
    const events = state.flatMap((e) => ChatEvent.safeParse(e).data ?? []);
    const text = (type: string, key: string) => {
      const value = events.find((e) => e.type === type)?.content[key];
      return typeof value === 'string' ? value.slice(0, 120) : '';
    };
    const members = events.filter((e) => e.type === 'm.room.member' && e.content['membership'] === 'join').map((e) => e.state_key ?? '');
    return { name: text('m.room.name', 'name'), topic: text('m.room.topic', 'topic'), members };
  }

  /** Events of a room from a place on, oldest first. `end`: where the next page begins; undefined at the end. */
  async messages(
    room: string,
    from: string | undefined,
  ): Promise<{ readonly events: ChatEvent[]; readonly end: string | undefined; readonly odd: number }> {
    const query = { dir: 'f', limit: '500', ...(from && { from }) };
    const { chunk, end } = await this.ask(Messages, 'GET', `rooms/${encodeURIComponent(room)}/messages`, query);
    const events = chunk.flatMap((e) => ChatEvent.safeParse(e).data ?? []);
    return { events, end, odd: chunk.length - events.length };
  }

  /** Makes a room that only those who are named get into. Gives its id. */
  async makeRoom(name: string, topic: string, invite: readonly string[]): Promise<string> {
    const body = { name, topic, preset: 'private_chat', visibility: 'private', invite };
    return (await this.ask(z.object({ room_id: z.string().max(300) }), 'POST', 'createRoom', {}, body)).room_id;
  }

  /** Says again what somebody said, at the time they did. */
  async say(room: string, key: string, { sender, origin_server_ts: ts, type, content }: ChatEvent): Promise<void> {
    const path = `rooms/${encodeURIComponent(room)}/send/${encodeURIComponent(type)}/${encodeURIComponent(key)}`;
    await this.ask(z.looseObject({}), 'PUT', path, { user_id: sender, ts: String(ts) }, content);
  }

  async close(): Promise<void> {
    await this.client.close();
  }
}

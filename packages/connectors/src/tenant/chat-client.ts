import { setTimeout as pause } from 'node:timers/promises';
import { AddressRefused, OutgoingClient } from '@lithodex/net';
import type { Tenant } from '@lithodex/kinds';
import { z } from 'zod';
import { SourceError } from '../source-error';
import { tooManyWaits, waitOf } from './retry-after';

const silenceMs = 60_000;
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
  private readonly client = new OutgoingClient(mostBytes, silenceMs);
  private readonly base: string;

  constructor(
    private readonly tenant: Tenant,
    private readonly stopped: () => boolean = () => false,
  ) {
    if (!tenant.chat) throw new SourceError('TENANT_FAILED', 'chat is not connected');
    this.base = tenant.chat.url.replace(/\/*$/, '');
    if (tenant.authority !== null) this.client.trust(tenant.authority);
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
    for (let attempt = 1; ; attempt++) {
      let answer;
      let text;
      try {
        answer = await this.client.request(url, {
          method,
          headers: { authorization: `Bearer ${this.tenant.secrets.chat ?? ''}`, ...(body && { 'content-type': 'application/json' }) },
          ...(body && { body: JSON.stringify(body) }),
        });
        text = await answer.body.text();
      } catch (error) {
        const code = (error as { code?: unknown }).code;
        const why =
          error instanceof AddressRefused ? error.message.replace(/\.$/, '') : typeof code === 'string' ? code : 'it does not answer';
        throw new SourceError('TENANT_AWAY', `the chat server: ${why}`);
      }
      const wait = waitOf(answer.statusCode, answer.headers, attempt);
      if (wait !== undefined && attempt <= tooManyWaits) {
        for (let left = wait; left > 0 && !this.stopped(); left -= 200) await pause(Math.min(200, left));
        continue;
      }
      if (answer.statusCode >= 300) throw this.refusal(answer.statusCode);
      return parsed(schema, text);
    }
  }

  private refusal(status: number): SourceError {
    const said = `the chat server answers ${status}`;
    if (status === 401 || status === 403) return new SourceError('TENANT_REFUSED', said);
    if (status === 404) return new SourceError('TENANT_GONE', said);
    return new SourceError(status >= 500 || status === 429 ? 'TENANT_AWAY' : 'TENANT_FAILED', said);
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

function parsed<T>(schema: z.ZodType<T>, text: string): T {
  try {
    return schema.parse(JSON.parse(text));
  } catch {
    throw new SourceError('TENANT_FAILED', 'the chat server: its answer can not be read');
  }
}

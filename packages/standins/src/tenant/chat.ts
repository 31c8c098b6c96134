import fs from 'node:fs';
import type { IncomingMessage, ServerResponse } from 'node:http';

export interface ChatEvent {
  event_id: string;
  type: string;
  sender: string;
  origin_server_ts: number;
  state_key?: string;
  content: Record<string, unknown>;
}
interface Room {
  readonly id: string;
  readonly open: boolean;
  readonly events: ChatEvent[];
  /** What was said under a key is said once. */
  readonly keys: Map<string, string>;
}

/** A chat server by the client-server API of Matrix, as an application service sees it. */
export class TenantChat {
  private rooms = new Map<string, Room>();
  private count = 0;
  private readAt = 0;

  constructor(
    readonly domain: string,
    /** Where rooms are kept, so that they are there again at the next start, and others may change them meanwhile. */
    private readonly file?: string,
  ) {
    this.load();
  }

  /** Takes what the file holds, where that is newer. */
  load(): void {
    const at = this.file && fs.statSync(this.file, { throwIfNoEntry: false })?.mtimeMs;
    if (!at || at === this.readAt) return;
    this.readAt = at;
    const { count, rooms } = JSON.parse(fs.readFileSync(this.file, 'utf8')) as { count: number; rooms: Omit<Room, 'keys'>[] };
    this.count = count;
    this.rooms = new Map(rooms.map((r) => [r.id, { ...r, keys: new Map() }]));
  }

  save(): void {
    if (!this.file) return;
    const rooms = [...this.rooms.values()].map(({ id, open, events }) => ({ id, open, events }));
    fs.writeFileSync(this.file, JSON.stringify({ count: this.count, rooms }));
    this.readAt = fs.statSync(this.file).mtimeMs;
  }

  get roomIds(): string[] {
    return [...this.rooms.keys()];
  }

  eventsOf(room: string): readonly ChatEvent[] {
    return this.rooms.get(room)?.events ?? [];
  }

  makeRoom(name: string, topic: string, members: readonly string[], at: number, open = true): string {
    const id = `!room${this.rooms.size + 1}:${this.domain}`;
    this.rooms.set(id, { id, open, events: [], keys: new Map() });
    const [creator = `@service:${this.domain}`] = members;
    this.add(id, creator, 'm.room.create', {}, at, '');
    this.add(id, creator, 'm.room.name', { name }, at, '');
    this.add(id, creator, 'm.room.topic', { topic }, at, '');
    for (const m of members) this.add(id, m, 'm.room.member', { membership: 'join' }, at, m);
    return id;
  }

  add(room: string, sender: string, type: string, content: Record<string, unknown>, at: number, stateKey?: string): string {
    const event_id = `$e${++this.count}:${this.domain}`;
    this.rooms
      .get(room)!
      .events.push({ event_id, type, sender, origin_server_ts: at, content, ...(stateKey !== undefined && { state_key: stateKey }) });
    return event_id;
  }

  /** Takes what was said away, as somebody who is allowed to does. */
  redact(room: string, from: number, to: number): void {
    for (const e of this.rooms.get(room)!.events)
      if (e.type === 'm.room.message' && e.origin_server_ts >= from && e.origin_server_ts < to) e.content = {};
  }

  answer(request: IncomingMessage, response: ServerResponse, body: string): void {
    this.load();
    if (request.method !== 'GET') response.once('finish', () => this.save());
    const url = new URL(request.url ?? '/', 'http://chat');
    const parts = url.pathname
      .replace(/^.*\/_matrix\/client\/v3\//, '')
      .split('/')
      .map(decodeURIComponent);
    const end = (status: number, answer: unknown) => {
      response.writeHead(status, { 'content-type': 'application/json' });
      response.end(JSON.stringify(answer));
    };
    const user = url.searchParams.get('user_id') ?? `@service:${this.domain}`;
    if (parts[0] === 'account') {
      end(200, { user_id: user });
      return;
    }
    if (parts[0] === 'joined_rooms') {
      const mine = [...this.rooms.values()].filter((r) => r.events.some((e) => e.type === 'm.room.member' && e.state_key === user));
      end(200, { joined_rooms: mine.map((r) => r.id) });
      return;
    }
    if (parts[0] === 'publicRooms') {
      const open = [...this.rooms.values()].filter((r) => r.open);
      const nameOf = (r: Room) => r.events.find((e) => e.type === 'm.room.name')?.content['name'];
      end(200, { chunk: open.map((r) => ({ room_id: r.id, name: nameOf(r) })) });
      return;
    }
    if (parts[0] === 'createRoom' && request.method === 'POST') {
      const wish = JSON.parse(body) as { name?: string; topic?: string; invite?: string[] };
      end(200, { room_id: this.makeRoom(wish.name ?? '', wish.topic ?? '', [user, ...(wish.invite ?? [])], Date.now(), false) });
      return;
    }
    const room = parts[0] === 'rooms' ? this.rooms.get(parts[1] ?? '') : undefined;
    if (!room) {
      end(404, { errcode: 'M_NOT_FOUND' });
      return;
    }
    if (parts[2] === 'state') {
      const latest = new Map(room.events.filter((e) => e.state_key !== undefined).map((e) => [`${e.type} ${e.state_key}`, e]));
      end(200, [...latest.values()]);
      return;
    }
    if (parts[2] === 'messages') {
      const from = Number((url.searchParams.get('from') ?? 't0').slice(1));
      const to = Math.min(room.events.length, from + Math.min(500, Number(url.searchParams.get('limit') ?? 10)));
      end(200, { start: `t${from}`, chunk: room.events.slice(from, to), ...(to < room.events.length && { end: `t${to}` }) });
      return;
    }
    if (parts[2] === 'send' && request.method === 'PUT') {
      const key = `${user} ${parts[4]}`;
      const said = room.keys.get(key);
      const ts = Number(url.searchParams.get('ts') ?? Date.now());
      const id = said ?? this.add(room.id, user, parts[3] ?? '', JSON.parse(body) as Record<string, unknown>, ts);
      room.keys.set(key, id);
      end(200, { event_id: id });
      return;
    }
    end(404, { errcode: 'M_UNRECOGNIZED' });
  }
}

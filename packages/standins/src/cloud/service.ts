import { randomBytes } from 'node:crypto';
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { escapeHtml } from '../escape-html';
import { listenLocally, stopListening } from '../local-server';
import type { Range } from '../platform/block-disk';
import { PlatformError } from '../platform/platform-error';
import { Cloud, type NewInstance } from './cloud';
import { CloudError } from './cloud-error';
import type { CloudClientDescription, CloudDescription, CloudRight, CloudSwitches, Instance, Volume } from './description';
import { letInstanceWrite } from './instance-files';

const sessionMs = 15 * 60_000;
const largestBody = 64 << 20;
const mostRows = 500;

async function bodyOf(req: IncomingMessage): Promise<Buffer> {
  const parts: Buffer[] = [];
  let bytes = 0;
  for await (const part of req as AsyncIterable<Buffer>) {
    bytes += part.length;
    if (bytes > largestBody) throw new CloudError('INVALID', 'too large');
    parts.push(part);
  }
  return Buffer.concat(parts);
}

function jsonOf<T>(body: Buffer): T {
  try {
    return JSON.parse(body.toString() || '{}') as T;
  } catch {
    throw new CloudError('INVALID', 'the body is no JSON');
  }
}

interface Asked {
  readonly method: string;
  readonly parts: readonly string[];
  readonly query: URLSearchParams;
  readonly body: Buffer;
}

/** A small cloud over HTTP, for tests and demonstrations. Programs sign in by client credentials; people have acts of their own below /people. */
export class CloudService {
  readonly cloud: Cloud;
  /** Requests by method and kind of path, for who counts them. */
  readonly asked = new Map<string, number>();
  private readonly server: Server;
  private readonly tokens = new Map<string, { readonly client: string; ends: number }>();

  constructor(private readonly options: { readonly folder: string; readonly port?: number }) {
    this.cloud = new Cloud(options.folder);
    this.server = createServer((req, res) => void this.handle(req, res));
    this.server.keepAliveTimeout = 60_000;
  }

  /** Where it listens, once it does. */
  address = '';

  async start(): Promise<string> {
    this.address = await listenLocally(this.server, this.options.port);
    return this.address;
  }

  /** Ends all sessions before their time. */
  forgetSessions(): void {
    this.tokens.clear();
  }

  async stop(): Promise<void> {
    await stopListening(this.server);
    this.cloud.close();
  }

  private async handle(req: IncomingMessage, res: ServerResponse): Promise<void> {
    const send = (status: number, type: string, body: string | Buffer) => {
      res.writeHead(status, { 'content-type': type, 'content-length': Buffer.byteLength(body) }).end(body);
    };
    try {
      const url = new URL(req.url!, 'http://cloud');
      const parts = url.pathname.split('/').filter(Boolean).map(decodeURIComponent);
      const asked: Asked = { method: req.method!, parts: parts.slice(1), query: url.searchParams, body: await bodyOf(req) };
      if (parts[0] === 'people') send(200, 'application/json', JSON.stringify(await this.people(asked)));
      else if (url.pathname === '/oauth/token') send(200, 'application/json', JSON.stringify(this.enter(asked.body)));
      else if (parts[0] !== 'v1') send(200, 'text/html; charset=utf-8', this.page());
      else {
        const answer = await this.program(asked, req.headers.authorization ?? '');
        if (Buffer.isBuffer(answer)) send(200, 'application/octet-stream', answer);
        else send(200, 'application/json', JSON.stringify(answer ?? {}));
      }
    } catch (error) {
      const known = error instanceof CloudError || error instanceof PlatformError ? error : new CloudError('DOWN', String(error));
      send(known.status, 'application/json', JSON.stringify({ code: known.code, message: known.message }));
    }
  }

  private page(): string {
    const rows = this.cloud.all().map((i) => `<li>${escapeHtml(i.name)}: ${i.region}, ${i.size}, ${i.running ? 'runs' : 'off'}</li>`);
    return `<!doctype html><title>Cloud</title><h1>Instances</h1><ul>${rows.join('')}</ul>`;
  }

  /** RFC 6749, section 4.4. */
  private enter(body: Buffer) {
    const form = new URLSearchParams(body.toString());
    const client = this.cloud.description.clients.find((c) => c.id === form.get('client_id'));
    if (form.get('grant_type') !== 'client_credentials' || client?.secret !== form.get('client_secret'))
      throw new CloudError('SIGN_IN_REFUSED', 'client or secret is not right');
    if (client.secretEnds !== null && client.secretEnds <= Date.now()) throw new CloudError('PASSWORD_EXPIRED', 'the secret has expired');
    const token = randomBytes(24).toString('hex');
    this.tokens.set(token, { client: client.id, ends: Date.now() + sessionMs });
    return { access_token: token, token_type: 'Bearer', expires_in: sessionMs / 1000 };
  }

  private clientOf(authorization: string): CloudClientDescription {
    const session = this.tokens.get(authorization.replace(/^Bearer /, ''));
    const client = session && this.cloud.description.clients.find((c) => c.id === session.client);
    if (!client || session.ends < Date.now()) throw new CloudError('SESSION_ENDED', 'sign in again');
    return client;
  }

  private async program(asked: Asked, authorization: string): Promise<unknown> {
    const { switches } = this.cloud;
    if (switches.delayMs) await new Promise((resume) => setTimeout(resume, switches.delayMs));
    if (switches.down) throw new CloudError('DOWN', 'the cloud does not answer');
    const client = this.clientOf(authorization);
    const may = (right: CloudRight) => {
      if (!client.rights.includes(right)) throw new CloudError('RIGHT_MISSING', `the client has no right to ${right}`);
    };
    const [what = '', id = '', part = '', partId = '', act = ''] = asked.parts;
    const name = `${asked.method} ${what}${id && '/X'}${part && `/${part}`}${partId && '/Y'}${act && `/${act}`}`;
    this.asked.set(name, (this.asked.get(name) ?? 0) + 1);
    const json = <T>() => jsonOf<T>(asked.body);
    const { cloud } = this;
    switch (name) {
      case 'GET account':
        return { client: client.id, rights: client.rights, secretEnds: client.secretEnds };
      case 'GET catalog':
        may('read');
        return cloud.catalog();
      case 'GET instances': {
        may('read');
        const after = asked.query.get('after') ?? '';
        const all = cloud.all().sort((a, b) => (a.id < b.id ? -1 : 1));
        const rows = all.filter((i) => i.id > after);
        return { rows: rows.slice(0, mostRows).map((i) => cloud.shown(i)), more: rows.length > mostRows };
      }
      case 'GET instances/X':
        may('read');
        return cloud.shown(cloud.one(id));
      case 'POST instances':
        may('create');
        return cloud.shown(cloud.make(json<NewInstance>()));
      case 'PATCH instances/X': {
        const changes = json<Partial<Instance>>();
        may('running' in changes ? 'power' : 'create');
        return cloud.shown(cloud.change(id, changes));
      }
      case 'DELETE instances/X':
        may('remove');
        cloud.remove(id);
        return {};
      case 'POST groups': {
        may('groups');
        const { region, name: group } = json<{ region: string; name: string }>();
        cloud.makeGroup(region, group);
        return {};
      }
      case 'POST instances/X/snapshots':
        may('snapshot');
        return cloud.takeSnapshot(id, json<{ name: string }>().name);
      case 'DELETE instances/X/snapshots/Y':
        may('snapshot');
        cloud.removeSnapshot(id, partId);
        return {};
      default:
        return this.ofVolumes(name, asked, may);
    }
  }

  /** What is asked of volumes and of what becomes one. */
  private ofVolumes(name: string, { parts, query, body }: Asked, may: (right: CloudRight) => void): unknown {
    const { volumes, imports } = this.cloud;
    const [, id = ''] = parts;
    const snapshot = query.get('snapshot') ?? undefined;
    switch (name) {
      case 'GET volumes':
        may('read');
        return { rows: volumes.all().filter((v) => v.instance === null && v.region === query.get('region')) };
      case 'POST volumes':
        may('create');
        return this.cloud.makeVolume(jsonOf<Pick<Volume, 'region' | 'class' | 'label' | 'size' | 'tags'>>(body));
      case 'PATCH volumes/X':
        may('create');
        return volumes.change(id, { tags: jsonOf<{ tags: string[] }>(body).tags });
      case 'DELETE volumes/X':
        may('remove');
        volumes.remove(id);
        return {};
      case 'GET volumes/X/ranges': {
        may('snapshot');
        const since = query.get('since');
        return since === null ? volumes.disk(id).allocated(snapshot) : volumes.disk(id).changed(since, snapshot);
      }
      case 'POST volumes/X/read': {
        may('snapshot');
        const { ranges } = jsonOf<{ ranges: Range[] }>(body);
        return Buffer.concat(ranges.map(([offset, length]) => volumes.disk(id).bytes(offset, length, snapshot)));
      }
      case 'POST volumes/X/sums':
        may('read');
        return { sums: volumes.sums(id, jsonOf<{ ranges: Range[] }>(body).ranges) };
      case 'GET staging':
        may('staging');
        return { names: imports.names() };
      case 'PUT staging/X':
        may('staging');
        imports.put(id, Number(query.get('offset')), body);
        return {};
      case 'DELETE staging/X':
        may('staging');
        imports.drop(id);
        return {};
      case 'POST imports': {
        may('import');
        const { staged, sha256, volume } = jsonOf<{ staged: string; sha256: string; volume: string }>(body);
        return imports.begin(staged, sha256, volume);
      }
      case 'GET imports/X':
        may('import');
        return imports.job(id);
      default:
        throw new CloudError('NOT_FOUND', 'nothing is known by this address');
    }
  }

  /** What people do who run the cloud. Bodies are trusted: only tests and the demonstration send them. */
  private async people({ parts: [act], body }: Asked): Promise<unknown> {
    switch (act) {
      case 'describe':
        this.cloud.describe(jsonOf<CloudDescription>(body));
        return {};
      case 'switches':
        this.cloud.switches = { ...this.cloud.switches, ...jsonOf<Partial<CloudSwitches>>(body) };
        return {};
      case 'work': {
        const { name, label, files } = jsonOf<{ name: string; label: string; files: { path: string; content: string }[] }>(body);
        const written = files.map((f) => ({ path: f.path, content: Buffer.from(f.content, 'base64') }));
        await letInstanceWrite(this.cloud, name, label, written);
        return {};
      }
      case 'change': {
        const { name, changes } = jsonOf<{ name: string; changes: Partial<Instance> }>(body);
        this.cloud.change(this.cloud.named(name).id, changes);
        return {};
      }
      case 'remove': {
        const { id } = this.cloud.named(jsonOf<{ name: string }>(body).name);
        this.cloud.change(id, { running: false });
        this.cloud.remove(id);
        return {};
      }
      default:
        throw new CloudError('NOT_FOUND', 'nothing is known by this address');
    }
  }
}

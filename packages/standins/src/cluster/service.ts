import fs from 'node:fs';
import http, { type IncomingMessage, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import type { Duplex } from 'node:stream';
import { WebSocketServer } from 'ws';
import { listenLocally, stopListening } from '../local-server';
import { ApiFailure, readBody, sayStatus } from './answers';
import { Controllers } from './controllers';
import { ClusterObjects, type Held } from './objects';
import { applied, merged } from './patches';
import { runInPod } from './pod-commands';
import { placesOf } from './pod-places';
import { at, bytesOf, list, selects, text } from './read-value';
import { apiVersionOf, resourceKinds, type ResourceKind } from './resource-kinds';
import { mayDo, type ClusterAccount, type ClusterRule } from './rights';
import { answerAsRoute } from './routes';
import { clusterFine, type ClusterSwitches } from './switches';
import { ClusterVolumes } from './volumes';

export interface ClusterServiceOptions {
  readonly folder: string;
  readonly port?: number;
  readonly accounts: readonly ClusterAccount[];
  /** Objects are kept in a file of the folder. */
  readonly keeps?: boolean;
  readonly now?: () => number;
}

/** What a path of the API means. */
interface Asked {
  readonly kind: ResourceKind;
  readonly namespace: string;
  readonly name: string;
  readonly sub: string;
}

const versionOfApi = { major: '1', minor: '31', gitVersion: 'v1.31.0' };

/** A container cluster by its ordinary API: resources, volumes and snapshots of them, commands in pods, and routes that answer. */
export class ClusterService {
  readonly switches: ClusterSwitches = structuredClone(clusterFine);
  readonly objects: ClusterObjects;
  readonly volumes: ClusterVolumes;
  url = '';
  /** Requests so far, as `METHOD path`. */
  readonly asked: string[] = [];
  private readonly controllers: Controllers;
  private readonly sockets = new WebSocketServer({
    noServer: true,
    handleProtocols: (given) => (given.has('v5.channel.k8s.io') ? 'v5.channel.k8s.io' : false),
  });
  private readonly server = http.createServer((request, response) => void this.answer(request, response));
  private readonly said = new Map<string, unknown>();

  constructor(private readonly options: ClusterServiceOptions) {
    fs.mkdirSync(options.folder, { recursive: true });
    const now = options.now ?? Date.now;
    this.objects = new ClusterObjects(options.keeps ? `${options.folder}/objects.json` : undefined, now);
    this.volumes = new ClusterVolumes(options.folder);
    this.controllers = new Controllers(this.objects, this.volumes, this.switches, now, () => ({
      host: '127.0.0.1',
      port: (this.server.address() as AddressInfo).port,
    }));
    this.server.on('upgrade', (request, socket: Duplex, head) => {
      this.upgrade(request, socket, head);
    });
  }

  async start(): Promise<void> {
    this.url = await listenLocally(this.server, this.options.port);
    this.controllers.settle();
  }

  async stop(): Promise<void> {
    for (const socket of this.sockets.clients) socket.close();
    await stopListening(this.server);
  }

  /** Puts resources in place, as their owners would. */
  put(...resources: readonly Record<string, unknown>[]): void {
    for (const resource of resources) {
      const kind = resourceKinds.find((k) => k.kind === resource['kind'] && apiVersionOf(k) === resource['apiVersion']);
      if (!kind) throw new Error(`the cluster does not know ${String(resource['kind'])}`);
      this.objects.put(kind, kind.namespaced ? text(resource, 'metadata', 'namespace') || 'default' : '', resource);
      this.controllers.settle();
    }
  }

  /** Where the volume of a claim lies. */
  placeOfClaim(namespace: string, claim: string): string {
    const held = this.objects.get('PersistentVolumeClaim', namespace, claim);
    return this.volumes.place(text(held?.spec, 'volumeName'));
  }

  private rulesOf({ headers }: IncomingMessage): readonly ClusterRule[] {
    const token = (headers.authorization ?? '').replace(/^Bearer /, '');
    const account = this.options.accounts.find((a) => a.token === token);
    if (!account) throw new ApiFailure(401, 'Unauthorized', 'Unauthorized');
    return account.rules;
  }

  private async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const { switches } = this;
    this.asked.push(`${request.method} ${request.url}`);
    if (this.asked.length > 20_000) this.asked.splice(0, 10_000);
    try {
      if (switches.down) throw new ApiFailure(503, 'ServiceUnavailable', 'the cluster is down');
      this.controllers.settle();
      if (answerAsRoute(this.objects, this.volumes, request, response)) return;
      if (switches.throttled > 0) {
        switches.throttled--;
        throw new ApiFailure(429, 'TooManyRequests', 'come again', { 'retry-after': '1' });
      }
      const rules = this.rulesOf(request);
      const url = new URL(request.url ?? '/', 'http://cluster');
      const body = await readBody(request);
      const result = this.result(request, url, body, rules, response);
      if (result !== undefined)
        response.writeHead(request.method === 'POST' ? 201 : 200, { 'content-type': 'application/json' }).end(JSON.stringify(result));
    } catch (error) {
      sayStatus(response, error);
    } finally {
      this.controllers.settle();
    }
  }

  /** What a request comes to; undefined where it is answered otherwise. */
  private result(request: IncomingMessage, url: URL, body: unknown, rules: readonly ClusterRule[], response: ServerResponse): unknown {
    const discovered = discovery(url.pathname);
    if (discovered) return discovered;
    if (url.pathname === '/apis/authorization.k8s.io/v1/selfsubjectaccessreviews') {
      const asked = at(body, 'spec', 'resourceAttributes');
      const sub = text(asked, 'subresource');
      const allowed = mayDo(rules, text(asked, 'verb'), text(asked, 'resource') + (sub && `/${sub}`), text(asked, 'namespace'));
      return { apiVersion: 'authorization.k8s.io/v1', kind: 'SelfSubjectAccessReview', status: { allowed } };
    }
    const asked = askedOf(url.pathname);
    const { kind, namespace, name } = asked;
    const watches = url.searchParams.get('watch') === 'true' || url.searchParams.get('watch') === '1';
    const verb =
      { GET: watches ? 'watch' : name ? 'get' : 'list', POST: 'create', PUT: 'update', PATCH: 'patch', DELETE: 'delete' }[
        request.method!
      ] ?? '';
    if (!mayDo(rules, verb, kind.plural, namespace))
      throw new ApiFailure(
        403,
        'Forbidden',
        `${kind.plural} is forbidden: the account cannot ${verb} resource "${kind.plural}" in the namespace "${namespace}"`,
      );
    switch (verb) {
      case 'watch':
        this.watch(kind, namespace, url, response);
        return undefined;
      case 'list':
        return this.list(kind, namespace, url);
      case 'get':
        return this.found(asked);
      case 'create':
        return this.create(asked, body);
      case 'update':
        return this.update(asked, body);
      case 'patch':
        return this.patch(asked, request.headers['content-type'] ?? '', url, body);
      default:
        return this.remove(asked);
    }
  }

  private list(kind: ResourceKind, namespace: string, url: URL): unknown {
    const { searchParams: query } = url;
    const field = /^metadata\.name=(.+)$/.exec(query.get('fieldSelector') ?? '')?.[1];
    const all = this.objects
      .list(kind, namespace === '' ? undefined : namespace)
      .filter(
        (o) => selects(query.get('labelSelector') ?? '', o.metadata.labels ?? {}) && (field === undefined || o.metadata.name === field),
      )
      .sort((a, b) => (`${a.metadata.namespace}/${a.metadata.name}` < `${b.metadata.namespace}/${b.metadata.name}` ? -1 : 1));
    const from = Number(query.get('continue') ?? 0);
    const most = Number(query.get('limit') ?? 0) || all.length;
    const more = from + most < all.length ? { continue: String(from + most), remainingItemCount: all.length - from - most } : {};
    // lists do not say of each what it is
    const items = all.slice(from, from + most).map(({ apiVersion: _, kind: __, ...rest }) => rest);
    return { apiVersion: apiVersionOf(kind), kind: `${kind.kind}List`, metadata: { resourceVersion: this.objects.newest, ...more }, items };
  }

  private watch(kind: ResourceKind, namespace: string, url: URL, response: ServerResponse): void {
    const { searchParams: query } = url;
    response.writeHead(200, { 'content-type': 'application/json' });
    response.flushHeaders();
    const tell = ({ type, kind: changed, object }: { type: string; kind: ResourceKind; object: Held }) => {
      const here = changed === kind && (namespace === '' || object.metadata.namespace === namespace);
      if (here && selects(query.get('labelSelector') ?? '', object.metadata.labels ?? {}))
        response.write(`${JSON.stringify({ type, object })}\n`);
    };
    this.objects.changes.on('change', tell);
    response.on('close', () => this.objects.changes.off('change', tell));
  }

  private found({ kind, namespace, name }: Asked): Held {
    const held = this.objects.get(kind, namespace, name);
    if (!held) throw new ApiFailure(404, 'NotFound', `${kind.plural} "${name}" not found`);
    return held;
  }

  private create({ kind, namespace }: Asked, body: unknown): Held {
    const name = text(body, 'metadata', 'name') || `${text(body, 'metadata', 'generateName')}${Math.random().toString(36).slice(2, 7)}`;
    if (!/^[a-z0-9]([a-z0-9.:-]{0,251}[a-z0-9])?$/.test(name))
      throw new ApiFailure(422, 'Invalid', `metadata.name: Invalid value: "${name}"`);
    if (kind.namespaced && !this.objects.get('Namespace', '', namespace))
      throw new ApiFailure(404, 'NotFound', `namespaces "${namespace}" not found`);
    if (this.objects.get(kind, namespace, name)) throw new ApiFailure(409, 'AlreadyExists', `${kind.plural} "${name}" already exists`);
    if (kind.kind === 'PersistentVolumeClaim') this.checkQuota(namespace, text(body, 'spec', 'resources', 'requests', 'storage'));
    return this.objects.put(kind, namespace, withName(sealable(kind, body), name));
  }

  private update({ kind, namespace, name }: Asked, body: unknown): Held {
    const before = this.found({ kind, namespace, name, sub: '' });
    const version = text(body, 'metadata', 'resourceVersion');
    if (version !== '' && version !== before.metadata.resourceVersion)
      throw new ApiFailure(409, 'Conflict', 'the object has been modified');
    return this.objects.put(kind, namespace, { ...withName(sealable(kind, body), name), status: before.status });
  }

  private patch(asked: Asked, type: string, url: URL, body: unknown): Held {
    const { kind, namespace, name } = asked;
    const before = this.objects.get(kind, namespace, name);
    if (type.startsWith('application/apply-patch')) {
      const manager = url.searchParams.get('fieldManager');
      if (!manager) throw new ApiFailure(400, 'BadRequest', 'fieldManager is required for apply patch');
      const key = `${kind.plural}/${namespace}/${name}/${manager}`;
      const now = withName(sealable(kind, body), name);
      if (!before) this.create(asked, now);
      const held = this.objects.put(kind, namespace, applied(before ?? {}, this.said.get(key), now) as Held);
      this.said.set(key, now);
      return held;
    }
    if (!type.startsWith('application/merge-patch+json')) throw new ApiFailure(415, 'UnsupportedMediaType', type);
    return this.objects.put(kind, namespace, merged(this.found(asked), body) as Held);
  }

  private remove({ kind, namespace, name }: Asked): unknown {
    this.found({ kind, namespace, name, sub: '' });
    this.objects.remove(kind, namespace, name);
    return { apiVersion: 'v1', kind: 'Status', status: 'Success' };
  }

  private checkQuota(namespace: string, size: string): void {
    for (const quota of this.objects.of('ResourceQuota', namespace)) {
      const hard = text(quota.spec, 'hard', 'requests.storage');
      const used = this.objects
        .of('PersistentVolumeClaim', namespace)
        .reduce((sum, c) => sum + bytesOf(text(c.spec, 'resources', 'requests', 'storage')), 0);
      if (hard !== '' && used + bytesOf(size) > bytesOf(hard))
        throw new ApiFailure(403, 'Forbidden', `exceeded quota: ${quota.metadata.name}`);
    }
  }

  private upgrade(request: IncomingMessage, socket: Duplex, head: Buffer): void {
    const refuse = (status: string) => socket.end(`HTTP/1.1 ${status}\r\ncontent-length: 0\r\n\r\n`);
    const url = new URL(request.url ?? '/', 'http://cluster');
    const found = /^\/api\/v1\/namespaces\/([^/]+)\/pods\/([^/]+)\/exec$/.exec(url.pathname);
    this.asked.push(`EXEC ${request.url}`);
    try {
      if (this.switches.down || !found) return void refuse('503 Service Unavailable');
      const [, namespace = '', name = ''] = found;
      if (!mayDo(this.rulesOf(request), 'create', 'pods/exec', namespace)) return void refuse('403 Forbidden');
      const pod = this.objects.get('Pod', namespace, name);
      if (text(pod?.status, 'phase') !== 'Running') return void refuse('404 Not Found');
      const called = url.searchParams.get('container') ?? '';
      const container = list(pod!.spec, 'containers').find((c) => called === '' || text(c, 'name') === called);
      if (container === undefined) return void refuse('400 Bad Request');
      const places = placesOf(this.objects, this.volumes, pod!, container);
      this.sockets.handleUpgrade(request, socket, head, (open) => {
        runInPod(open, url.searchParams.getAll('command'), places, this.switches);
      });
    } catch {
      refuse('401 Unauthorized');
    }
  }
}

const withName = (body: unknown, name: string): Record<string, unknown> => ({
  ...(body as Record<string, unknown>),
  metadata: { ...(at(body, 'metadata') as object), name },
});

/** A cluster keeps the values of secrets in one field, whichever they were given in. */
function sealable(kind: ResourceKind, body: unknown): unknown {
  const given = at(body, 'stringData');
  if (kind.kind !== 'Secret' || typeof given !== 'object' || given === null) return body;
  const { stringData: _, ...rest } = body as Record<string, unknown>;
  const values = Object.entries(given).map(([name, value]) => [name, Buffer.from(String(value)).toString('base64')]);
  return { ...rest, data: { ...(at(rest, 'data') as object | undefined), ...(Object.fromEntries(values) as object) } };
}

/** What there is, as clusters tell it. */
function discovery(path: string): unknown {
  const groups = [...new Set(resourceKinds.map((k) => k.group))].filter(Boolean);
  if (path === '/version') return versionOfApi;
  if (path === '/api') return { kind: 'APIVersions', versions: ['v1'] };
  if (path === '/apis') {
    const of = (name: string) =>
      resourceKinds.filter((k) => k.group === name).map((k) => ({ groupVersion: apiVersionOf(k), version: k.version }))[0];
    return { kind: 'APIGroupList', groups: groups.map((name) => ({ name, versions: [of(name)], preferredVersion: of(name) })) };
  }
  const [, version] = /^\/(?:api|apis)\/([^/]+(?:\/[^/]+)?)$/.exec(path) ?? [];
  const kinds = resourceKinds.filter((k) => apiVersionOf(k) === version);
  if (kinds.length === 0) return undefined;
  const verbs = ['create', 'delete', 'get', 'list', 'patch', 'update', 'watch'];
  const rows = kinds.map((k) => ({ name: k.plural, singularName: '', namespaced: k.namespaced, kind: k.kind, verbs }));
  const subs =
    version === 'v1' ? [{ name: 'pods/exec', singularName: '', namespaced: true, kind: 'PodExecOptions', verbs: ['create', 'get'] }] : [];
  return { kind: 'APIResourceList', groupVersion: version, resources: [...rows, ...subs] };
}

function askedOf(path: string): Asked {
  const match = /^\/(?:api\/v1|apis\/([^/]+)\/([^/]+))(?:\/namespaces\/([^/]+)(?=\/[^/]+))?\/([^/]+)(?:\/([^/]+))?(?:\/([^/]+))?$/.exec(
    path,
  );
  const [, group = '', version = 'v1', namespace = '', plural = '', name = '', sub = ''] = match ?? [];
  const kind = resourceKinds.find((k) => k.group === group && k.version === version && k.plural === plural);
  if (!match || !kind) throw new ApiFailure(404, 'NotFound', 'the server could not find the requested resource');
  return { kind, namespace: kind.namespaced ? namespace : '', name: decodeURIComponent(name), sub };
}

import type { Cluster } from '@lithodex/kinds';
import type { JsonObject, Resource } from '@lithodex/core';
import { z } from 'zod';
import { bearer, ServiceClient, type ServiceCodes } from '../service-client';
import { SourceError } from '../source-error';

/** Longest answer that is read, bytes. */
const mostBytes = 64 << 20;
const pageSize = 500;
const mostResources = 200_000;

/** A kind of resource that a cluster knows. */
export interface ResourceKind {
  readonly group: string;
  readonly version: string;
  readonly plural: string;
  readonly kind: string;
  readonly namespaced: boolean;
  readonly verbs: readonly string[];
}

const Held = z.looseObject({ metadata: z.looseObject({ name: z.string().min(1).max(260) }) });
const Page = z.looseObject({
  metadata: z.looseObject({ continue: z.string().max(100_000).optional() }),
  items: z.array(Held),
});
const Groups = z.looseObject({
  groups: z
    .array(z.looseObject({ name: z.string().max(260), preferredVersion: z.looseObject({ groupVersion: z.string().max(300) }) }))
    .max(2000),
});
const Kinds = z.looseObject({
  resources: z
    .array(
      z.looseObject({
        name: z.string().max(300),
        kind: z.string().max(260),
        namespaced: z.boolean(),
        verbs: z.array(z.string().max(60)).max(40).default([]),
      }),
    )
    .max(5000),
});
const Said = z.looseObject({ kind: z.literal('Status'), message: z.string().max(5000).optional(), reason: z.string().max(200).optional() });
const Version = z.looseObject({ gitVersion: z.string().max(60) });
const Review = z.looseObject({ status: z.looseObject({ allowed: z.boolean() }) });

const codes: ServiceCodes = {
  refused: 'CLUSTER_REFUSED',
  forbidden: 'CLUSTER_RIGHT_MISSING',
  gone: 'APPLICATION_GONE',
  full: 'CLUSTER_FAILED',
  failed: 'CLUSTER_FAILED',
  away: 'CLUSTER_AWAY',
};

export const apiVersionOf = ({ group, version }: Pick<ResourceKind, 'group' | 'version'>): string =>
  group === '' ? version : `${group}/${version}`;

/** Name of a writer of resources, by which a cluster tells what each of them wrote. */
export const writer = 'lithodex';

/** Asks a container cluster by its ordinary API. What it holds is taken as it is told: fields that nobody here knows come back as they were. Throws SourceError. */
export class ClusterClient {
  private readonly service: ServiceClient;
  private known: Promise<readonly ResourceKind[]> | undefined;

  constructor(
    readonly cluster: Cluster,
    stopped?: () => boolean,
  ) {
    const { token, authority } = cluster;
    this.service = new ServiceClient({ name: 'the cluster', authorization: bearer(token), authority, stopped, codes }, mostBytes);
  }

  close(): Promise<void> {
    return this.service.close();
  }

  private async ask<T>(
    schema: z.ZodType<T>,
    method: string,
    path: string,
    query: Readonly<Record<string, string>> = {},
    sent?: { readonly body: object; readonly type?: string },
  ): Promise<T> {
    const url = new URL(this.cluster.endpoint + path);
    for (const [name, value] of Object.entries(query)) url.searchParams.set(name, value);
    const { status, text } = await this.service.text(
      method,
      url,
      sent && { headers: { 'content-type': sent.type ?? 'application/json' }, body: () => JSON.stringify(sent.body) },
      anyRefusal,
    );
    let read: unknown;
    try {
      read = JSON.parse(text);
    } catch {
      if (status >= 300) throw this.service.refusal(status);
      throw this.service.unreadable();
    }
    if (status >= 300) throw this.refusal(status, Said.safeParse(read).data);
    const result = schema.safeParse(read);
    if (!result.success) throw this.service.unreadable();
    return result.data;
  }

  /** What an account that is let in may be told of why. */
  private refusal(status: number, said: z.infer<typeof Said> | undefined): SourceError {
    const why = status === 401 ? '' : (said?.message ?? '').replaceAll(/[\p{Cc}\p{Cf}]/gu, ' ').slice(0, 300);
    if (status === 409) return new SourceError('CLUSTER_FAILED', `${said?.reason ?? 'Conflict'}: ${why}`);
    return this.service.refusal(status, why);
  }

  async version(): Promise<string> {
    return (await this.ask(Version, 'GET', '/version')).gitVersion;
  }

  /** All kinds of resources, each in the version that the cluster prefers. */
  kinds(): Promise<readonly ResourceKind[]> {
    return (this.known ??= this.readKinds());
  }

  private async readKinds(): Promise<readonly ResourceKind[]> {
    const { groups } = await this.ask(Groups, 'GET', '/apis');
    const versions = ['v1', ...groups.map((g) => g.preferredVersion.groupVersion)];
    const found: ResourceKind[] = [];
    for (const apiVersion of versions) {
      const [group, version] = apiVersion.includes('/') ? (apiVersion.split('/', 2) as [string, string]) : ['', apiVersion];
      const path = group === '' ? `/api/${version}` : `/apis/${encodeURIComponent(group)}/${encodeURIComponent(version)}`;
      const { resources } = await this.ask(Kinds, 'GET', path).catch((error: unknown) => {
        // a group whose server is away keeps nobody from the others
        if (group !== '' && error instanceof SourceError && error.code === 'CLUSTER_AWAY') return { resources: [] };
        throw error;
      });
      for (const { name, kind, namespaced, verbs } of resources)
        if (!name.includes('/')) found.push({ group, version, plural: name, kind, namespaced, verbs });
    }
    return found;
  }

  /** The kind that a resource is of. Throws CLUSTER_FAILED where the cluster does not know it in that version. */
  async kindOf({ apiVersion, kind }: Pick<Resource, 'apiVersion' | 'kind'>): Promise<ResourceKind> {
    const found = (await this.kinds()).find((k) => k.kind === kind && apiVersionOf(k) === apiVersion);
    if (!found) throw new SourceError('CLUSTER_FAILED', `the cluster does not know ${kind} in version ${apiVersion}`);
    return found;
  }

  /** A kind of the clusters' own, by name and group. */
  async kindNamed(kind: string, group = ''): Promise<ResourceKind> {
    const found = (await this.kinds()).find((k) => k.kind === kind && k.group === group);
    if (!found) throw new SourceError('CLUSTER_FAILED', `the cluster does not know ${kind}`);
    return found;
  }

  /** Whether it knows a kind. */
  async knows(kind: string, group = ''): Promise<boolean> {
    return (await this.kinds()).some((k) => k.kind === kind && k.group === group);
  }

  private pathOf(kind: ResourceKind, namespace: string, name = ''): string {
    const root = kind.group === '' ? `/api/${kind.version}` : `/apis/${kind.group}/${kind.version}`;
    const space = kind.namespaced && namespace !== '' ? `/namespaces/${encodeURIComponent(namespace)}` : '';
    return `${root}${space}/${kind.plural}${name && `/${encodeURIComponent(name)}`}`;
  }

  /** All of a kind in a namespace, '' for all namespaces. */
  async *list(kind: ResourceKind, namespace: string, labelSelector = ''): AsyncGenerator<Resource> {
    let count = 0;
    for (let next = ''; ;) {
      const query = { limit: String(pageSize), ...(next && { continue: next }), ...(labelSelector && { labelSelector }) };
      const { items, metadata } = await this.ask(Page, 'GET', this.pathOf(kind, namespace), query);
      count += items.length;
      if (count > mostResources) throw new SourceError('CLUSTER_FAILED', `there are more than ${mostResources} ${kind.plural}`);
      for (const item of items) yield asResource(item, kind);
      if (!metadata.continue) return;
      next = metadata.continue;
    }
  }

  /** A resource; undefined where there is none of that name. */
  async get(kind: ResourceKind, namespace: string, name: string): Promise<Resource | undefined> {
    try {
      return asResource(await this.ask(Held, 'GET', this.pathOf(kind, namespace, name)), kind);
    } catch (error) {
      if (error instanceof SourceError && error.code === 'APPLICATION_GONE') return undefined;
      throw error;
    }
  }

  async create(kind: ResourceKind, namespace: string, resource: JsonObject): Promise<Resource> {
    return asResource(await this.ask(Held, 'POST', this.pathOf(kind, namespace), { fieldManager: writer }, { body: resource }), kind);
  }

  /** Makes a resource as it is written here, whoever wrote it before: fields of others that it doesn't name stay. */
  async apply(kind: ResourceKind, namespace: string, resource: Resource): Promise<Resource> {
    const query = { fieldManager: writer, force: 'true' };
    const sent = { body: resource, type: 'application/apply-patch+yaml' };
    return asResource(await this.ask(Held, 'PATCH', this.pathOf(kind, namespace, resource.metadata.name), query, sent), kind);
  }

  /** Makes a resource what it is here and nothing else. */
  async replace(kind: ResourceKind, namespace: string, resource: Resource): Promise<Resource> {
    const path = this.pathOf(kind, namespace, resource.metadata.name);
    return asResource(await this.ask(Held, 'PUT', path, { fieldManager: writer }, { body: resource }), kind);
  }

  /** Changes some fields of a resource (RFC 7386); null takes one away. */
  async change(kind: ResourceKind, namespace: string, name: string, fields: JsonObject): Promise<Resource> {
    const sent = { body: fields, type: 'application/merge-patch+json' };
    return asResource(await this.ask(Held, 'PATCH', this.pathOf(kind, namespace, name), { fieldManager: writer }, sent), kind);
  }

  /** Removes a resource; one that is not there is fine. */
  async remove(kind: ResourceKind, namespace: string, name: string): Promise<void> {
    try {
      await this.ask(z.unknown(), 'DELETE', this.pathOf(kind, namespace, name), { propagationPolicy: 'Background' });
    } catch (error) {
      if (!(error instanceof SourceError && error.code === 'APPLICATION_GONE')) throw error;
    }
  }

  /** Whether the account may do something. `resource`: plural, with a part of it behind a slash. */
  async allows(verb: string, resource: string, group: string, namespace: string): Promise<boolean> {
    const [name = '', subresource] = resource.split('/');
    const attributes = { verb, group, resource: name, ...(subresource && { subresource }), ...(namespace && { namespace }) };
    const body = { apiVersion: 'authorization.k8s.io/v1', kind: 'SelfSubjectAccessReview', spec: { resourceAttributes: attributes } };
    const path = '/apis/authorization.k8s.io/v1/selfsubjectaccessreviews';
    return (await this.ask(Review, 'POST', path, {}, { body })).status.allowed;
  }
}

const anyRefusal = [400, 401, 403, 404, 405, 409, 410, 413, 415, 422, 429, 500, 503, 507];

/** Lists do not say of each item what it is. */
const asResource = (held: z.infer<typeof Held>, kind: ResourceKind): Resource =>
  ({ ...held, apiVersion: apiVersionOf(kind), kind: kind.kind }) as unknown as Resource;

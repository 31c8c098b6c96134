import { isUp, kindOf, listAt, nameOf, patchBetween, asWritten, podPathOf, textAt, withClaim, type Resource } from '@lithodex/core';
import { OutgoingClient } from '@lithodex/net';
import { SourceError } from '../source-error';
import { readResources } from './application-resources';
import type { ClusterClient } from './cluster-client';
import { continuesNote, seriesOf, unusedNote } from './place-of';
import { until, waitsFor } from './helper-pod';

const askMs = 10_000;
const mostAnswer = 1 << 20;
const goneMs = 60_000;

/** Switches whatever runs in a namespace from claims to others, and notes of the old ones that nobody uses them. Gives what was changed. */
export async function switchClaims(client: ClusterClient, namespace: string, claims: ReadonlyMap<string, string>): Promise<Resource[]> {
  const changed: Resource[] = [];
  const { live } = await readResources(client, namespace, () => undefined);
  for (const resource of live) {
    if (!podPathOf(resource) || ['Pod', 'Job.batch'].includes(kindOf(resource))) continue;
    let now: Resource = resource;
    for (const [from, to] of claims) now = withClaim(now, from, to) ?? now;
    if (now === resource) continue;
    const kind = await client.kindOf(resource);
    changed.push(await client.change(kind, namespace, resource.metadata.name, patchBetween(asWritten(resource), asWritten(now))));
  }
  const kind = await client.kindNamed('PersistentVolumeClaim');
  const since = new Date().toISOString();
  for (const [from, to] of claims) {
    const old = await client.get(kind, namespace, from);
    if (old) await client.change(kind, namespace, from, { metadata: { annotations: { [unusedNote]: since } } });
    const series = old ? seriesOf(old) : from;
    await client.change(kind, namespace, to, {
      metadata: { annotations: { [unusedNote]: null, [continuesNote]: series === to ? null : series } },
    });
  }
  return changed;
}

interface Waiting {
  readonly stopped: () => boolean;
}

/** Waits until what was made or changed is up. Throws NOT_STARTED with what it waits for, STOPPED. */
export async function waitUntilUp(
  client: ClusterClient,
  namespace: string,
  resources: readonly Resource[],
  ms: number,
  { stopped }: Waiting,
): Promise<void> {
  const end = Date.now() + ms;
  for (const resource of resources) {
    if (!podPathOf(resource) || kindOf(resource) === 'Job.batch' || kindOf(resource) === 'CronJob.batch') continue;
    const kind = await client.kindOf(resource);
    const up = await until(
      async () => {
        const now = await client.get(kind, namespace, resource.metadata.name);
        return now && isUp(now) ? now : undefined;
      },
      Math.max(0, end - Date.now()),
      stopped,
    );
    if (up) continue;
    const waiting: string[] = [];
    for await (const pod of client.list(await client.kindNamed('Pod'), namespace)) {
      const owner = listAt(pod.metadata, 'ownerReferences').map((o) => textAt(o, 'name'));
      if (owner.some((o) => o.startsWith(resource.metadata.name))) waiting.push(`${pod.metadata.name} waits for ${waitsFor(pod)}`);
    }
    throw new SourceError(
      'NOT_STARTED',
      `${nameOf(resource)} is not up after ${Math.round(ms / 1000)} s${waiting.length ? `: ${waiting.slice(0, 5).join(', ')}` : ''}`,
    );
  }
}

/** Asks each host of a route, at the address that the cluster gives it. Says what each answered. */
export async function routesAnswer(client: ClusterClient, namespace: string, name: string): Promise<string[]> {
  const route = await client.get(await client.kindNamed('Ingress', 'networking.k8s.io'), namespace, name);
  const place = listAt(route, 'status', 'loadBalancer', 'ingress')[0];
  const address = textAt(place, 'ip') || textAt(place, 'hostname');
  if (!route || address === '') return ['it has no address yet'];
  const given = listAt(place, 'ports')[0] as { port?: unknown } | undefined;
  const port = typeof given?.port === 'number' ? given.port : 80;
  const asking = new OutgoingClient(mostAnswer, askMs);
  const said: string[] = [];
  try {
    for (const rule of listAt(route, 'spec', 'rules')) {
      const host = textAt(rule, 'host');
      if (host === '' || host.includes('*')) continue;
      try {
        const { statusCode, body } = await asking.request(new URL(`http://${address.includes(':') ? `[${address}]` : address}:${port}/`), {
          method: 'GET',
          headers: { host },
        });
        await body.dump();
        said.push(`${host} answers (${statusCode})`);
      } catch {
        said.push(`${host} does not answer at ${address}`);
      }
    }
  } finally {
    await asking.close();
  }
  return said;
}

/** Switches an application from one of its claims to another, and waits until it runs with it. Throws SourceError. */
export async function switchVolume(client: ClusterClient, namespace: string, from: string, to: string, ms: number): Promise<void> {
  const kind = await client.kindNamed('PersistentVolumeClaim');
  for (const name of [from, to])
    if (!(await client.get(kind, namespace, name))) throw new SourceError('APPLICATION_GONE', `there is no volume ${name}`);
  const changed = await switchClaims(client, namespace, new Map([[from, to]]));
  await waitUntilUp(client, namespace, changed, ms, { stopped: () => false });
}

/** Takes away a claim that something else took the place of. Throws CLUSTER_FAILED for one that is used. */
export async function removeUnused(client: ClusterClient, namespace: string, name: string): Promise<void> {
  const kind = await client.kindNamed('PersistentVolumeClaim');
  const claim = await client.get(kind, namespace, name);
  if (!claim) return;
  if (textAt(claim.metadata, 'annotations', unusedNote) === '')
    throw new SourceError('CLUSTER_FAILED', `${name} is not one that others took the place of`);
  const { live } = await readResources(client, namespace, () => undefined);
  const user = live.find((r) => withClaim(r, name, name) !== undefined);
  if (user) throw new SourceError('CLUSTER_FAILED', `${name} is used by ${nameOf(user)}`);
  await client.remove(kind, namespace, name);
  await until(
    async () => ((await client.get(kind, namespace, name)) ? undefined : true),
    goneMs,
    () => false,
  );
}

import { escapePath, withoutSecrets, asWritten, kindOf } from '@lithodex/core';
import type { Cluster, ResourcePair } from '@lithodex/kinds';
import type { OpenPoint } from '../connector';
import { SourceError } from '../source-error';
import { ClusterClient } from './cluster-client';
import { textOf } from './resource-files';
import { removeUnused, switchVolume } from './start-application';
import { storedApplication } from './stored-application';

export { lookAtPlace } from './look-at-place';

const upMs = 40_000;

async function asked<T>(cluster: Cluster, ask: (client: ClusterClient) => Promise<T>): Promise<T> {
  const client = new ClusterClient(cluster);
  try {
    return await ask(client);
  } finally {
    await client.close();
  }
}

/** A stored resource and the one of now, as text without what secrets hold. `path`: byte string. */
export async function resourcePair(point: OpenPoint, path: string, cluster: Cluster, namespace: string): Promise<ResourcePair> {
  const found = (await storedApplication(point, [path])).resources.find((r) => r.path === path);
  if (!found) throw new SourceError('APPLICATION_GONE', escapePath(path));
  const { resource } = found;
  return asked(cluster, async (client) => {
    const now = await client.get(await client.kindOf(resource), kindOf(resource) === 'Namespace' ? '' : namespace, resource.metadata.name);
    return { then: textOf(withoutSecrets(resource).shown), now: now ? textOf(withoutSecrets(asWritten(now)).shown) : null };
  });
}

/** Switches an application to another of its volumes. */
export async function switchTo(cluster: Cluster, namespace: string, from: string, to: string): Promise<void> {
  await asked(cluster, (client) => switchVolume(client, namespace, from, to, upMs));
}

/** Takes a volume away that nobody uses. */
export async function removeVolume(cluster: Cluster, namespace: string, claim: string): Promise<void> {
  await asked(cluster, (client) => removeUnused(client, namespace, claim));
}

import { kindOf, textAt, type Resource } from '@lithodex/core';
import type { ApplicationFacts, Cluster, FoundWorkload } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import { ownNamespaces } from './application-resources';
import { ClusterClient } from './cluster-client';
import { freezableClasses } from './frozen-volumes';
import { isUnused, named, roomOf, seriesOf } from './place-of';

/** The namespaces that are meant: those that were named, or all but the cluster's own. */
export async function namespacesOf(client: ClusterClient): Promise<Resource[]> {
  const { namespaces } = client.cluster;
  if (namespaces.length === 0)
    return (await named(client, 'Namespace', '')).filter((n) => !ownNamespaces.test(n.metadata.name) && n.metadata.name !== 'default');
  const kind = await client.kindNamed('Namespace');
  const found: Resource[] = [];
  for (const name of namespaces) {
    const one = await client.get(kind, '', name);
    if (one) found.push(one);
  }
  return found;
}

/** The applications of a cluster: its namespaces, with what their volumes are. Throws SourceError. */
export async function applicationsOf(cluster: Cluster): Promise<FoundWorkload[]> {
  const client = new ClusterClient(cluster);
  try {
    const classes = await freezableClasses(client);
    const found: FoundWorkload[] = [];
    for (const space of await namespacesOf(client))
      found.push({ id: space.metadata.name, name: space.metadata.name, facts: await factsOf(client, space, classes) });
    return found;
  } finally {
    await client.close();
  }
}

async function factsOf(client: ClusterClient, space: Resource, classes: ReadonlyMap<string, string>): Promise<ApplicationFacts> {
  const namespace = space.metadata.name;
  const labels = (space.metadata['labels'] ?? {}) as ApplicationFacts['labels'];
  const facts = { kind: 'application', namespace, labels } as const;
  const claims: Resource[] = [];
  try {
    for await (const claim of client.list(await client.kindNamed('PersistentVolumeClaim'), namespace)) claims.push(claim);
  } catch (error) {
    // one that may not be looked into keeps nobody from the others
    if (!(error instanceof SourceError) || error.code !== 'CLUSTER_RIGHT_MISSING') throw error;
    return { ...facts, bytes: 0, claims: 0, unfrozen: 0, unused: [], trouble: error.message.slice(0, 1000) };
  }
  const used = claims.filter((c) => kindOf(c) === 'PersistentVolumeClaim' && !isUnused(c));
  return {
    ...facts,
    bytes: used.reduce((sum, c) => sum + roomOf(c), 0),
    claims: used.length,
    unfrozen: used.filter((c) => !classes.has(textAt(c, 'spec', 'storageClassName'))).length,
    unused: claims
      .filter(isUnused)
      .map((c) => ({ claim: c.metadata.name, now: used.find((u) => seriesOf(u) === seriesOf(c))?.metadata.name ?? '' }))
      .slice(0, 200),
    trouble: '',
  };
}

import { asWritten, isDerived, textAt, type Resource } from '@lithodex/core';
import { SourceError } from '../source-error';
import type { ClusterClient, ResourceKind } from './cluster-client';
import { taskLabel } from './helper-pod';

/** Namespaces that a cluster keeps for itself. */
export const ownNamespaces = /^kube-/;

/** Kinds that belong to a namespace and can be read. */
export async function readableKinds(client: ClusterClient): Promise<ResourceKind[]> {
  return (await client.kinds()).filter((k) => k.namespaced && k.verbs.includes('list') && k.verbs.includes('get'));
}

export interface ReadResources {
  /** As their owners wrote them, the namespace itself first. */
  readonly resources: readonly Resource[];
  /** As they are, with what the cluster added. */
  readonly live: readonly Resource[];
  /** Kinds that the account may not list. */
  readonly refused: readonly string[];
  /** How many the cluster makes of others, which are left out. */
  readonly derived: number;
}

/** Reads everything in a namespace that its owners wrote. Throws APPLICATION_GONE. */
export async function readResources(client: ClusterClient, namespace: string, goOn: () => void): Promise<ReadResources> {
  const space = await client.get(await client.kindNamed('Namespace'), '', namespace);
  if (!space) throw new SourceError('APPLICATION_GONE', namespace);
  const live: Resource[] = [];
  const refused: string[] = [];
  let derived = 0;
  for (const kind of await readableKinds(client)) {
    goOn();
    try {
      for await (const resource of client.list(kind, namespace)) {
        if (textAt(resource.metadata, 'labels', taskLabel) !== '') continue;
        if (isDerived(resource)) derived++;
        else live.push(resource);
      }
    } catch (error) {
      if (!(error instanceof SourceError && error.code === 'CLUSTER_RIGHT_MISSING')) throw error;
      refused.push(kind.plural);
    }
  }
  return { resources: [space, ...live].map(asWritten), live: [space, ...live], refused, derived };
}

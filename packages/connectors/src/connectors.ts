import type { Root } from '@lithodex/engine';
import { PointFacts, type KindName } from '@lithodex/kinds';
import type { Connector } from './connector';
import { filesConnector } from './files/files-connector';

/** Loaded when a workload of the kind is worked on: a thread that loads what it does not use takes longer to start than many a task. */
const connectors: { readonly [K in KindName]: () => Connector<K> | Promise<Connector<K>> } = {
  files: () => filesConnector,
  machine: async () => (await import('./machines/machine-connector')).machineConnector,
  database: async () => (await import('./databases/database-connector')).databaseConnector,
  tenant: async () => (await import('./tenant/tenant-connector')).tenantConnector,
  bucket: async () => (await import('./buckets/bucket-connector')).bucketConnector,
  application: async () => (await import('./cluster/application-connector')).applicationConnector,
  share: async () => (await import('./fileserver/share-connector')).shareConnector,
};

/** The connector of a kind of workload. */
export async function connectorOf(kind: KindName): Promise<Connector> {
  return (await connectors[kind]()) as Connector;
}

/** What a point says of what it is of; null for kinds that say nothing, and for what a later version may have written. */
export function factsOf({ content }: Pick<Root, 'content'>): PointFacts | null {
  return PointFacts.safeParse(content.facts).data ?? null;
}

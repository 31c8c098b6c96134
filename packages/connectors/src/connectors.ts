import type { Root } from '@lithodex/engine';
import { PointFacts, type KindName } from '@lithodex/kinds';
import type { Connector } from './connector';
import { databaseConnector } from './databases/database-connector';
import { filesConnector } from './files/files-connector';
import { machineConnector } from './machines/machine-connector';
import { tenantConnector } from './tenant/tenant-connector';

const connectors: { readonly [K in KindName]: Connector<K> } = {
  files: filesConnector,
  machine: machineConnector,
  database: databaseConnector,
  tenant: tenantConnector,
};

/** The connector of a kind of workload. */
export function connectorOf(kind: KindName): Connector {
  return connectors[kind] as Connector;
}

/** What a point says of what it is of; null for kinds that say nothing, and for what a later version may have written. */
export function factsOf({ content }: Pick<Root, 'content'>): PointFacts | null {
  return PointFacts.safeParse(content.facts).data ?? null;
}

import type { KindName } from '@lithodex/kinds';
import type { Connector } from './connector';
import { filesConnector } from './files/files-connector';
import { machineConnector } from './machines/machine-connector';

const connectors: { readonly [K in KindName]: Connector<K> } = { files: filesConnector, machine: machineConnector };

/** The connector of a kind of workload. */
export function connectorOf(kind: KindName): Connector {
  return connectors[kind] as Connector;
}

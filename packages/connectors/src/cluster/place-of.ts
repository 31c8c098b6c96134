import { kindOf, listAt, textAt, type Resource } from '@lithodex/core';
import type { PlaceOfPoint } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import type { ClusterClient } from './cluster-client';

const most = 2000;
const unique = (words: readonly string[], longest: number) =>
  [...new Set(words.filter((w) => w !== '' && w !== 'None' && w.length <= longest))].sort().slice(0, most);

/** What leads to this cluster only: its hosts and addresses, its nodes, its classes of volumes, and the hosts of its routes. */
export async function placeOf(client: ClusterClient, live: readonly Resource[]): Promise<PlaceOfPoint> {
  const nodes = await named(client, 'Node', '');
  const classes = await named(client, 'StorageClass', 'storage.k8s.io');
  const { hostname } = new URL(client.cluster.endpoint);
  const routes = live.filter((r) => kindOf(r) === 'Ingress.networking.k8s.io');
  const services = live.filter((r) => kindOf(r) === 'Service');
  const balanced = live.flatMap((r) => listAt(r, 'status', 'loadBalancer', 'ingress'));
  return {
    endpoint: client.cluster.endpoint,
    hosts: unique(
      [
        hostname,
        ...client.cluster.domains,
        ...routes.flatMap((r) => listAt(r, 'spec', 'rules').map((rule) => textAt(rule, 'host'))),
        ...balanced.map((b) => textAt(b, 'hostname')),
      ],
      300,
    ),
    addresses: unique(
      [
        ...services.map((s) => textAt(s, 'spec', 'clusterIP')),
        ...balanced.map((b) => textAt(b, 'ip')),
        ...nodes.flatMap((n) => listAt(n, 'status', 'addresses').map((a) => textAt(a, 'address'))),
      ],
      60,
    ).filter((a) => /^[\d.]+$|:/.test(a)),
    nodes: unique(
      nodes.map((n) => n.metadata.name),
      300,
    ),
    classes: unique(
      classes.map((c) => c.metadata.name),
      300,
    ).slice(0, 500),
  };
}

/** What belongs to no namespace; none where the account may not see it. */
export async function named(client: ClusterClient, kind: string, group: string): Promise<Resource[]> {
  if (!(await client.knows(kind, group))) return [];
  const found: Resource[] = [];
  try {
    for await (const resource of client.list(await client.kindNamed(kind, group), '')) found.push(resource);
  } catch (error) {
    if (!(error instanceof SourceError && error.code === 'CLUSTER_RIGHT_MISSING')) throw error;
  }
  return found;
}

/** Bytes of a quantity as clusters write it, like `10Gi` or `500M`; 0 for what is none. */
export function bytesOfQuantity(quantity: string): number {
  const match = /^(\d{1,16}(?:\.\d{1,6})?)(Ki|Mi|Gi|Ti|Pi|k|M|G|T|P)?$/.exec(quantity);
  if (!match) return 0;
  const units: Readonly<Record<string, number>> = {
    Ki: 2 ** 10,
    Mi: 2 ** 20,
    Gi: 2 ** 30,
    Ti: 2 ** 40,
    Pi: 2 ** 50,
    k: 1e3,
    M: 1e6,
    G: 1e9,
    T: 1e12,
    P: 1e15,
  };
  return Math.min(Number.MAX_SAFE_INTEGER, Math.round(Number(match[1]) * (units[match[2] ?? ''] ?? 1)));
}

/** What a claim asks for, bytes. */
export const roomOf = (claim: Resource): number => bytesOfQuantity(textAt(claim, 'spec', 'resources', 'requests', 'storage'));
/** The class of volumes that a claim names; '' where it leaves that to the cluster. */
export const classOf = (claim: Resource): string => textAt(claim, 'spec', 'storageClassName');
export const isBlock = (claim: Resource): boolean => textAt(claim, 'spec', 'volumeMode') === 'Block';

/** On a claim that came beside another one: the volume whose series it continues. */
export const continuesNote = 'lithodex/continues';
/** On a claim that something else took the place of: since when. */
export const unusedNote = 'lithodex/unused-since';

/** Name of the volume of a claim in points. */
export const seriesOf = (claim: Resource): string => textAt(claim.metadata, 'annotations', continuesNote) || claim.metadata.name;
export const isUnused = (claim: Resource): boolean => textAt(claim.metadata, 'annotations', unusedNote) !== '';

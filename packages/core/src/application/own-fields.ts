import { groupOf, isObject, kindOf, listAt, textAt, valueAt, withValue, type Json, type JsonObject, type Resource } from './resource';

/** Fields that a cluster writes itself, which are others wherever the resource is made again. */
const writtenByCluster = [
  'managedFields',
  'resourceVersion',
  'uid',
  'creationTimestamp',
  'generation',
  'selfLink',
  'namespace',
  'deletionTimestamp',
  'deletionGracePeriodSeconds',
];
/** Notes that a cluster, or a program that applies whole texts, writes for itself. */
const noted =
  /^(pv\.kubernetes\.io\/|volume\.(beta\.)?kubernetes\.io\/(storage-provisioner|selected-node)|deployment\.kubernetes\.io\/revision|kubectl\.kubernetes\.io\/last-applied|lithodex\/fill(ing|ed)$)/;

/** Kinds that a cluster makes of others, and helpers of a backup. */
const derivedKinds: readonly string[] = [
  'Event',
  'Event.events.k8s.io',
  'Endpoints',
  'EndpointSlice.discovery.k8s.io',
  'ControllerRevision.apps',
  'Lease.coordination.k8s.io',
  'PodMetrics.metrics.k8s.io',
  'VolumeSnapshot.snapshot.storage.k8s.io',
];

/** Whether the cluster makes a resource of another one, so that it is not brought back by itself. */
export function isDerived(resource: Resource): boolean {
  if (derivedKinds.includes(kindOf(resource))) return true;
  if (listAt(resource.metadata, 'ownerReferences').some((o) => valueAt(o, 'controller') === true)) return true;
  const { kind, metadata } = resource;
  if (groupOf(resource) !== '') return false;
  if (kind === 'ServiceAccount' && metadata.name === 'default') return true;
  if (kind === 'ConfigMap' && metadata.name === 'kube-root-ca.crt') return true;
  return kind === 'Secret' && textAt(resource, 'type') === 'kubernetes.io/service-account-token';
}

/** A resource as its owner wrote it, without what the cluster adds: the same text wherever and whenever it is read. */
export function asWritten(resource: Resource): Resource {
  const metadata = Object.fromEntries(Object.entries(resource.metadata).filter(([field]) => !writtenByCluster.includes(field)));
  const { status: _, ...rest } = resource;
  let own = { ...rest, metadata } as Resource;
  const notes = valueAt(own.metadata, 'annotations');
  if (isObject(notes)) {
    const kept = Object.fromEntries(Object.entries(notes).filter(([name]) => !noted.test(name)));
    own = withValue<JsonObject>(own, ['metadata', 'annotations'], Object.keys(kept).length ? kept : undefined) as Resource;
  }
  return withoutGiven(own);
}

/** Addresses and volumes that a cluster gave: another one gives its own. */
function withoutGiven(resource: Resource): Resource {
  const without = (...paths: readonly (readonly string[])[]) =>
    paths.reduce<JsonObject>((at, path) => withValue(at, path, undefined), resource) as Resource;
  switch (kindOf(resource)) {
    case 'Service': {
      const headless = textAt(resource, 'spec', 'clusterIP') === 'None';
      const given = headless
        ? []
        : [
            ['spec', 'clusterIP'],
            ['spec', 'clusterIPs'],
          ];
      const cleaned = without(...given, ['spec', 'healthCheckNodePort']);
      const ports = listAt(cleaned, 'spec', 'ports');
      if (!ports.some((p) => valueAt(p, 'nodePort') !== undefined)) return cleaned;
      return withValue<JsonObject>(
        cleaned,
        ['spec', 'ports'],
        ports.map((p): Json => (isObject(p) ? withValue(p, ['nodePort'], undefined) : p)),
      ) as Resource;
    }
    case 'PersistentVolumeClaim':
      return without(['spec', 'volumeName'], ['spec', 'dataSource'], ['spec', 'dataSourceRef']);
    case 'Pod':
      return without(['spec', 'nodeName']);
    case 'Job.batch':
      return without(
        ['spec', 'selector'],
        ['spec', 'template', 'metadata', 'labels', 'controller-uid'],
        ['spec', 'template', 'metadata', 'labels', 'batch.kubernetes.io/controller-uid'],
      );
    default:
      return resource;
  }
}

export const sealedMark = '(sealed)';

/** A secret without its values, and the values: they go their own way, and never to a screen. */
export function withoutSecrets(resource: Resource): { readonly shown: Resource; readonly sealed: JsonObject | null } {
  if (kindOf(resource) !== 'Secret') return { shown: resource, sealed: null };
  const sealed: Record<string, Json> = {};
  let shown: JsonObject = resource;
  for (const field of ['data', 'stringData']) {
    const values = resource[field];
    if (!isObject(values)) continue;
    sealed[field] = values;
    shown = withValue(shown, [field], Object.fromEntries(Object.keys(values).map((name) => [name, sealedMark])));
  }
  return { shown: shown as Resource, sealed: Object.keys(sealed).length ? sealed : null };
}

/** A secret with its values again. */
export const withSecrets = (shown: Resource, sealed: JsonObject | null): Resource => (sealed ? { ...shown, ...sealed } : shown);

/** A kind of resource that a cluster knows. */
export interface ResourceKind {
  readonly group: string;
  readonly version: string;
  readonly plural: string;
  readonly kind: string;
  readonly namespaced: boolean;
}

const table: readonly (readonly [string, string, string, string, boolean])[] = [
  ['', 'v1', 'namespaces', 'Namespace', false],
  ['', 'v1', 'nodes', 'Node', false],
  ['', 'v1', 'persistentvolumes', 'PersistentVolume', false],
  ['', 'v1', 'persistentvolumeclaims', 'PersistentVolumeClaim', true],
  ['', 'v1', 'pods', 'Pod', true],
  ['', 'v1', 'services', 'Service', true],
  ['', 'v1', 'configmaps', 'ConfigMap', true],
  ['', 'v1', 'secrets', 'Secret', true],
  ['', 'v1', 'serviceaccounts', 'ServiceAccount', true],
  ['', 'v1', 'events', 'Event', true],
  ['', 'v1', 'resourcequotas', 'ResourceQuota', true],
  ['apps', 'v1', 'deployments', 'Deployment', true],
  ['apps', 'v1', 'statefulsets', 'StatefulSet', true],
  ['batch', 'v1', 'jobs', 'Job', true],
  ['batch', 'v1', 'cronjobs', 'CronJob', true],
  ['networking.k8s.io', 'v1', 'ingresses', 'Ingress', true],
  ['networking.k8s.io', 'v1', 'networkpolicies', 'NetworkPolicy', true],
  ['gateway.networking.k8s.io', 'v1', 'httproutes', 'HTTPRoute', true],
  ['rbac.authorization.k8s.io', 'v1', 'roles', 'Role', true],
  ['rbac.authorization.k8s.io', 'v1', 'rolebindings', 'RoleBinding', true],
  ['storage.k8s.io', 'v1', 'storageclasses', 'StorageClass', false],
  ['snapshot.storage.k8s.io', 'v1', 'volumesnapshots', 'VolumeSnapshot', true],
  ['snapshot.storage.k8s.io', 'v1', 'volumesnapshotcontents', 'VolumeSnapshotContent', false],
  ['snapshot.storage.k8s.io', 'v1', 'volumesnapshotclasses', 'VolumeSnapshotClass', false],
];

export const resourceKinds: readonly ResourceKind[] = table.map(([group, version, plural, kind, namespaced]) => ({
  group,
  version,
  plural,
  kind,
  namespaced,
}));

/** Throws for a kind that the table does not hold. */
export function kindNamed(kind: string): ResourceKind {
  const found = resourceKinds.find((k) => k.kind === kind);
  if (!found) throw new Error(`there is no kind ${kind}`);
  return found;
}

export const apiVersionOf = ({ group, version }: ResourceKind): string => (group === '' ? version : `${group}/${version}`);

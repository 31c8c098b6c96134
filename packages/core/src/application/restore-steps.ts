import { groupOf, kindOf, listAt, textAt, type Resource } from './resource';

/** The order in which an application is made again. */
export const restoreSteps = ['rights', 'volumes', 'config', 'work', 'routes'] as const;
export type RestoreStep = (typeof restoreSteps)[number];

const stepOfKind: Readonly<Record<string, RestoreStep>> = {
  ServiceAccount: 'rights',
  'Role.rbac.authorization.k8s.io': 'rights',
  'RoleBinding.rbac.authorization.k8s.io': 'rights',
  ResourceQuota: 'rights',
  LimitRange: 'rights',
  'NetworkPolicy.networking.k8s.io': 'rights',
  PersistentVolumeClaim: 'volumes',
  ConfigMap: 'config',
  Secret: 'config',
  'Ingress.networking.k8s.io': 'routes',
};

/** At which step a resource is made. Kinds that nobody here knows come with the work, which may need them. */
export function stepOf(resource: Pick<Resource, 'apiVersion' | 'kind'>): RestoreStep {
  const known = stepOfKind[kindOf(resource)];
  if (known) return known;
  return groupOf(resource) === 'gateway.networking.k8s.io' ? 'routes' : 'work';
}

/** What runs goes after what it is described by. */
const lateKinds = [
  'Deployment.apps',
  'StatefulSet.apps',
  'DaemonSet.apps',
  'Pod',
  'Job.batch',
  'CronJob.batch',
  'HorizontalPodAutoscaler.autoscaling',
];

/** Resources in the order in which they are made: by step, what runs last within its own, then by kind and name. */
export function inRestoreOrder<T extends Resource>(resources: readonly T[]): T[] {
  const rank = (r: Resource) => [restoreSteps.indexOf(stepOf(r)), lateKinds.indexOf(kindOf(r)) + 1] as const;
  return [...resources].sort((a, b) => {
    const [ra, rb] = [rank(a), rank(b)];
    return ra[0] - rb[0] || ra[1] - rb[1] || compare(kindOf(a), kindOf(b)) || compare(a.metadata.name, b.metadata.name);
  });
}

const compare = (a: string, b: string) => (a < b ? -1 : a > b ? 1 : 0);

/** Where a kind says what its pods are like; undefined for kinds that start none. */
export function podPathOf(resource: Pick<Resource, 'apiVersion' | 'kind'>): readonly string[] | undefined {
  switch (kindOf(resource)) {
    case 'Pod':
      return ['spec'];
    case 'Deployment.apps':
    case 'StatefulSet.apps':
    case 'DaemonSet.apps':
    case 'ReplicaSet.apps':
    case 'Job.batch':
      return ['spec', 'template', 'spec'];
    case 'CronJob.batch':
      return ['spec', 'jobTemplate', 'spec', 'template', 'spec'];
    default:
      return undefined;
  }
}

/** The claims that the pods of a resource mount, those of a set's own templates left out. */
export function claimsOf(resource: Resource): string[] {
  const path = podPathOf(resource);
  if (!path) return [];
  return listAt(resource, ...path, 'volumes').flatMap((v) => textAt(v, 'persistentVolumeClaim', 'claimName') || []);
}

import type { PlacedResource } from '../harbour-applications';

const groups = {
  v1: '/api/v1',
  'apps/v1': '/apis/apps/v1',
  'networking.k8s.io/v1': '/apis/networking.k8s.io/v1',
  'storage.k8s.io/v1': '/apis/storage.k8s.io/v1',
  'snapshot.storage.k8s.io/v1': '/apis/snapshot.storage.k8s.io/v1',
} as const;

function placed(
  apiVersion: keyof typeof groups,
  kind: string,
  plural: string,
  name: string,
  rest: object,
  namespace = '',
  more: object = {},
): PlacedResource {
  const metadata = { name, ...(namespace && { namespace }), ...more };
  return {
    path: `${groups[apiVersion]}${namespace && `/namespaces/${namespace}`}/${plural}`,
    body: { apiVersion, kind, metadata, ...rest },
  };
}

const driver = 'volumes.kelmar-harbour.example';

/** What a cluster has before anything runs on it: nodes, and classes of volumes that can be frozen. */
export function clusterParts(name: string, pier: string, classes: readonly string[], nodes: number): PlacedResource[] {
  return [
    ...Array.from({ length: nodes }, (_, i) =>
      placed(
        'v1',
        'Node',
        'nodes',
        `${name}-${i + 1}`,
        { status: { addresses: [{ type: 'InternalIP', address: `10.4${name.length}.0.${i + 11}` }] } },
        '',
        { labels: { pier } },
      ),
    ),
    ...classes.map((c, i) =>
      placed(
        'storage.k8s.io/v1',
        'StorageClass',
        'storageclasses',
        c,
        { provisioner: driver },
        '',
        i === 0 ? { annotations: { 'storageclass.kubernetes.io/is-default-class': 'true' } } : {},
      ),
    ),
    placed('snapshot.storage.k8s.io/v1', 'VolumeSnapshotClass', 'volumesnapshotclasses', 'frozen', { driver, deletionPolicy: 'Delete' }),
    placed('v1', 'Namespace', 'namespaces', 'kube-system', {}),
  ];
}

const claim = (namespace: string, name: string, cls: string, size: string) =>
  placed(
    'v1',
    'PersistentVolumeClaim',
    'persistentvolumeclaims',
    name,
    { spec: { accessModes: ['ReadWriteOnce'], storageClassName: cls, resources: { requests: { storage: size } } } },
    namespace,
  );

const service = (namespace: string, app: string) =>
  placed('v1', 'Service', 'services', app, { spec: { selector: { app }, ports: [{ port: 80 }], clusterIP: '10.96.14.20' } }, namespace);

const route = (namespace: string, name: string, host: string, app: string) =>
  placed(
    'networking.k8s.io/v1',
    'Ingress',
    'ingresses',
    name,
    {
      spec: {
        rules: [{ host, http: { paths: [{ path: '/', pathType: 'Prefix', backend: { service: { name: app, port: { number: 80 } } } }] } }],
      },
    },
    namespace,
  );

const base64 = (text: string) => Buffer.from(text).toString('base64');

/** The board of tides: it is brought to rest before its volumes are frozen, and its mail goes by a relay that only jetty knows. */
export function tideBoard(domain: string): PlacedResource[] {
  const space = 'tide-board';
  return [
    placed('v1', 'Namespace', 'namespaces', space, {}, '', { labels: { team: 'pilots' } }),
    placed('v1', 'ServiceAccount', 'serviceaccounts', 'board', {}, space),
    claim(space, 'tide-data', 'basin-fast', '4Gi'),
    claim(space, 'cache', 'basin-slow', '1Gi'),
    placed(
      'v1',
      'ConfigMap',
      'configmaps',
      'board-settings',
      { data: { PUBLIC_URL: `https://tides.jetty.${domain}/`, STATIONS: '12' } },
      space,
    ),
    placed('v1', 'ConfigMap', 'configmaps', 'stations', { data: { 'stations.txt': 'kelmar\nouter mole\nskerry light\n' } }, space),
    placed(
      'v1',
      'Secret',
      'secrets',
      'mail-relay',
      { type: 'Opaque', data: { RELAY: base64(`relay.jetty.${domain}:587`), PASSWORD: base64('made up for the story') } },
      space,
    ),
    placed(
      'apps/v1',
      'Deployment',
      'deployments',
      'board',
      {
        spec: {
          replicas: 4,
          selector: { matchLabels: { app: 'board' } },
          template: {
            metadata: {
              labels: { app: 'board' },
              annotations: {
                'lithodex/before-snapshot': '["touch", "/data/.resting"]',
                'lithodex/after-snapshot': '["rm", "-f", "/data/.resting"]',
              },
            },
            spec: {
              nodeSelector: { pier: 'pier-east' },
              containers: [
                {
                  name: 'board',
                  image: 'kelmar/board:3.2',
                  envFrom: [{ configMapRef: { name: 'board-settings' } }, { secretRef: { name: 'mail-relay' } }],
                  volumeMounts: [
                    { name: 'data', mountPath: '/data' },
                    { name: 'cache', mountPath: '/var/cache/tiles' },
                  ],
                },
              ],
              volumes: [
                { name: 'data', persistentVolumeClaim: { claimName: 'tide-data' } },
                { name: 'cache', persistentVolumeClaim: { claimName: 'cache' } },
              ],
            },
          },
        },
      },
      space,
    ),
    service(space, 'board'),
    route(space, 'board', `tides.jetty.${domain}`, 'board'),
  ];
}

/** The portal for berths: a set whose volumes are made by a template of its own. */
export function berthPortal(domain: string): PlacedResource[] {
  const space = 'berth-portal';
  return [
    placed('v1', 'Namespace', 'namespaces', space, {}, '', { labels: { team: 'office' } }),
    placed('v1', 'ConfigMap', 'configmaps', 'portal-settings', { data: { LANGUAGE: 'en', DATABASE: 'berths-a' } }, space),
    placed(
      'apps/v1',
      'StatefulSet',
      'statefulsets',
      'portal',
      {
        spec: {
          replicas: 1,
          serviceName: 'portal',
          selector: { matchLabels: { app: 'portal' } },
          template: {
            metadata: { labels: { app: 'portal' } },
            spec: {
              containers: [
                {
                  name: 'portal',
                  image: 'kelmar/portal:1.9',
                  envFrom: [{ configMapRef: { name: 'portal-settings' } }],
                  volumeMounts: [{ name: 'uploads', mountPath: '/uploads' }],
                },
              ],
            },
          },
          volumeClaimTemplates: [
            {
              metadata: { name: 'uploads' },
              spec: { accessModes: ['ReadWriteOnce'], storageClassName: 'basin-fast', resources: { requests: { storage: '2Gi' } } },
            },
          ],
        },
      },
      space,
    ),
    service(space, 'portal'),
    route(space, 'portal', `berths.jetty.${domain}`, 'portal'),
  ];
}

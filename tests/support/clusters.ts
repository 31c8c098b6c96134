import { spawnSync } from 'node:child_process';
import fs from 'node:fs';
import http from 'node:http';
import { ClusterService, everythingAllowed, type ClusterAccount } from '@lithodex/standins';

/** What opens the account that tests connect by. */
export const clusterToken = 'what opens the cluster';

const storageClass = (name: string, driver: string, isDefault = false) => ({
  apiVersion: 'storage.k8s.io/v1',
  kind: 'StorageClass',
  metadata: { name, ...(isDefault && { annotations: { 'storageclass.kubernetes.io/is-default-class': 'true' } }) },
  provisioner: driver,
});

/** A cluster with classes of volumes and a node. */
export async function startCluster(
  folder: string,
  node: string,
  classes: readonly string[],
  accounts: readonly ClusterAccount[] = [],
): Promise<ClusterService> {
  const cluster = new ClusterService({ folder, accounts: [{ token: clusterToken, rules: everythingAllowed }, ...accounts] });
  await cluster.start();
  const driver = 'volumes.example';
  cluster.put(
    {
      apiVersion: 'v1',
      kind: 'Node',
      metadata: { name: node, labels: { pier: 'east' } },
      status: { addresses: [{ type: 'InternalIP', address: '10.20.0.5' }] },
    },
    ...classes.map((name, i) => storageClass(name, driver, i === 0)),
    storageClass('rough', 'other.example'),
    {
      apiVersion: 'snapshot.storage.k8s.io/v1',
      kind: 'VolumeSnapshotClass',
      metadata: { name: 'frozen' },
      driver,
      deletionPolicy: 'Delete',
    },
    ...['default', 'kube-system'].map((name) => ({ apiVersion: 'v1', kind: 'Namespace', metadata: { name } })),
  );
  return cluster;
}

const claim = (name: string, cls: string, size: string, more: object = {}) => ({
  apiVersion: 'v1',
  kind: 'PersistentVolumeClaim',
  metadata: { name, namespace: 'tide-board' },
  spec: { accessModes: ['ReadWriteOnce'], storageClassName: cls, resources: { requests: { storage: size } }, ...more },
});

/** The resources of an application with a database of its own, three volumes, a route, and a secret. */
export const tideBoard = (cls: string, host: string): readonly Record<string, unknown>[] => [
  { apiVersion: 'v1', kind: 'Namespace', metadata: { name: 'tide-board', labels: { team: 'pilots' } } },
  { apiVersion: 'v1', kind: 'ServiceAccount', metadata: { name: 'board', namespace: 'tide-board' } },
  {
    apiVersion: 'rbac.authorization.k8s.io/v1',
    kind: 'RoleBinding',
    metadata: { name: 'board-reads', namespace: 'tide-board' },
    subjects: [{ kind: 'ServiceAccount', name: 'board', namespace: 'tide-board' }],
    roleRef: { kind: 'Role', name: 'reads', apiGroup: 'rbac.authorization.k8s.io' },
  },
  claim('tide-data', cls, '1Gi'),
  claim('tide-disk', cls, '8Mi', { volumeMode: 'Block' }),
  {
    apiVersion: 'v1',
    kind: 'ConfigMap',
    metadata: { name: 'board-settings', namespace: 'tide-board' },
    data: { PUBLIC_URL: `https://${host}/`, STATIONS: '12' },
  },
  {
    apiVersion: 'v1',
    kind: 'Secret',
    metadata: { name: 'mail-relay', namespace: 'tide-board' },
    type: 'Opaque',
    data: {
      RELAY: Buffer.from('relay.jetty.example:25').toString('base64'),
      PASSWORD: Buffer.from('a light in the fog').toString('base64'),
    },
  },
  {
    apiVersion: 'apps/v1',
    kind: 'Deployment',
    metadata: { name: 'board', namespace: 'tide-board' },
    spec: {
      replicas: 2,
      selector: { matchLabels: { app: 'board' } },
      template: {
        metadata: { labels: { app: 'board' } },
        spec: {
          nodeSelector: { pier: 'east' },
          containers: [
            {
              name: 'main',
              image: 'board:3',
              envFrom: [{ configMapRef: { name: 'board-settings' } }, { secretRef: { name: 'mail-relay' } }],
              volumeMounts: [{ name: 'data', mountPath: '/data' }],
              volumeDevices: [{ name: 'disk', devicePath: '/dev/tides' }],
            },
          ],
          volumes: [
            { name: 'data', persistentVolumeClaim: { claimName: 'tide-data' } },
            { name: 'disk', persistentVolumeClaim: { claimName: 'tide-disk' } },
          ],
        },
      },
    },
  },
  {
    apiVersion: 'v1',
    kind: 'Service',
    metadata: { name: 'board', namespace: 'tide-board' },
    spec: { selector: { app: 'board' }, ports: [{ port: 80 }], clusterIP: '10.96.4.7' },
  },
  {
    apiVersion: 'networking.k8s.io/v1',
    kind: 'Ingress',
    metadata: { name: 'board', namespace: 'tide-board' },
    spec: {
      rules: [
        { host, http: { paths: [{ path: '/', pathType: 'Prefix', backend: { service: { name: 'board', port: { number: 80 } } } }] } },
      ],
    },
  },
];

/** Fills a folder with what volumes hold: names of any bytes, links, several names of one file, modes and times. */
export function fillFolder(folder: string): void {
  fs.mkdirSync(`${folder}/stations/north`, { recursive: true });
  fs.writeFileSync(`${folder}/index.html`, '<h1>Tides</h1>');
  fs.writeFileSync(`${folder}/stations/north/levels.csv`, 'at,level\n'.repeat(200_000));
  fs.writeFileSync(`${folder}/stations/empty`, '');
  fs.writeFileSync(`${folder}/-T`, 'begins like an option');
  fs.writeFileSync(Buffer.concat([Buffer.from(`${folder}/`), Buffer.from([0xe6, 0x2e, 0x0a, 0x78])]), 'a name that is no text');
  fs.writeFileSync(`${folder}/${'long'.repeat(50)}`, 'a long name');
  fs.linkSync(`${folder}/index.html`, `${folder}/stations/same.html`);
  fs.symlinkSync('../index.html', `${folder}/stations/link`);
  fs.chmodSync(`${folder}/index.html`, 0o640);
  fs.utimesSync(`${folder}/stations/north/levels.csv`, 1_700_000_000.123, 1_700_000_000.123);
  if (process.getuid?.() === 0) fs.chownSync(`${folder}/stations/north`, 1234, 1234);
}

/** Everything in a folder, in a form that shows any difference: kinds, modes, owners, times, content. */
export function described(folder: string): string {
  const { stdout, status } = spawnSync(
    'bash',
    [
      '-c',
      `cd "$1" && find . -mindepth 1 -printf '%P %y %m %U %G %s %T@ %n %l\\n' | sort && find . -type f -print0 | sort -z | xargs -0 sha256sum`,
      'bash',
      folder,
    ],
    { encoding: 'latin1' },
  );
  if (status !== 0) throw new Error('the folder can not be described');
  return stdout.replaceAll(/ d (\d+ \d+ \d+) \d+ /g, ' d $1 ');
}

/** Asks the application behind a host of a cluster. */
export function askRoute(cluster: ClusterService, host: string, path: string): Promise<{ readonly status: number; readonly text: string }> {
  return new Promise((resolve, reject) => {
    http
      .get(`${cluster.url}${path}`, { headers: { host } }, (response) => {
        let text = '';
        response.on('data', (part: Buffer) => (text += part.toString()));
        response.on('end', () => {
          resolve({ status: response.statusCode ?? 0, text });
        });
      })
      .on('error', reject);
  });
}

import { CoreV1Api, KubeConfig, KubernetesObjectApi, PatchStrategy, type KubernetesObject } from '@kubernetes/client-node';
import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { everythingAllowed } from './rights';
import { ClusterService } from './service';

const token = 'quiet-harbour';
const folder = fs.mkdtempSync(path.join(os.tmpdir(), 'lithodex-cluster-'));
const cluster = new ClusterService({
  folder,
  accounts: [
    { token, rules: everythingAllowed },
    { token: 'reader', rules: [{ verbs: ['get', 'list'], resources: ['pods'], namespaces: ['quay'] }] },
  ],
});

/** The standard client of that API, which knows nothing of us. */
function clientOf(own: string): { objects: KubernetesObjectApi; core: CoreV1Api } {
  const config = new KubeConfig();
  config.loadFromOptions({
    clusters: [{ name: 'c', server: cluster.url, skipTLSVerify: true }],
    users: [{ name: 'u', token: own }],
    contexts: [{ name: 'x', cluster: 'c', user: 'u' }],
    currentContext: 'x',
  });
  return { objects: KubernetesObjectApi.makeApiClient(config), core: config.makeApiClient(CoreV1Api) };
}

const deployment = (image: string) => ({
  apiVersion: 'apps/v1',
  kind: 'Deployment',
  metadata: { name: 'board', namespace: 'quay' },
  spec: {
    replicas: 2,
    template: {
      metadata: { labels: { app: 'board' } },
      spec: {
        containers: [{ name: 'main', image, volumeMounts: [{ name: 'd', mountPath: '/data' }] }],
        volumes: [{ name: 'd', persistentVolumeClaim: { claimName: 'tides' } }],
      },
    },
  },
});

beforeAll(async () => {
  await cluster.start();
  cluster.put(
    { apiVersion: 'storage.k8s.io/v1', kind: 'StorageClass', metadata: { name: 'slow' }, provisioner: 'made.example' },
    { apiVersion: 'v1', kind: 'Namespace', metadata: { name: 'quay' } },
  );
});
afterAll(async () => {
  await cluster.stop();
  fs.rmSync(folder, { recursive: true });
});

describe('the stand-in of a cluster, asked by the standard client', () => {
  it('makes, lists in pages, selects, applies and removes', async () => {
    const { objects, core } = clientOf(token);
    for (const name of ['a', 'b', 'c'])
      await objects.create({
        apiVersion: 'v1',
        kind: 'ConfigMap',
        metadata: { name, namespace: 'quay', labels: { pier: name === 'b' ? 'east' : 'west' } },
      });
    const first = await core.listNamespacedConfigMap({ namespace: 'quay', limit: 2 });
    const second = await core.listNamespacedConfigMap({ namespace: 'quay', _continue: first.metadata!._continue! });
    expect([...first.items, ...second.items].map((i) => i.metadata!.name)).toEqual(['a', 'b', 'c', 'kube-root-ca.crt']);
    const east = await core.listNamespacedConfigMap({ namespace: 'quay', labelSelector: 'pier=east' });
    expect(east.items).toHaveLength(1);
    const apply = (data: Record<string, string>) =>
      objects.patch(
        { apiVersion: 'v1', kind: 'ConfigMap', metadata: { name: 'a', namespace: 'quay' }, data } as KubernetesObject,
        undefined,
        undefined,
        'somebody',
        true,
        PatchStrategy.ServerSideApply,
      );
    await apply({ one: '1', two: '2' });
    await apply({ two: '3' });
    expect((await core.readNamespacedConfigMap({ namespace: 'quay', name: 'a' })).data).toEqual({ two: '3' });
    await objects.delete({ apiVersion: 'v1', kind: 'ConfigMap', metadata: { name: 'a', namespace: 'quay' } });
    await expect(core.readNamespacedConfigMap({ namespace: 'quay', name: 'a' })).rejects.toThrow('404');
  });

  it('gives claims their volumes, and pods what they mount, in the order in which that can be', async () => {
    const { objects, core } = clientOf(token);
    await objects.create(deployment('board:3'));
    const ready = async () => (await core.listNamespacedPod({ namespace: 'quay' })).items.map((p) => p.status?.phase);
    expect(await ready()).toEqual(['Pending', 'Pending']);
    const spec = { accessModes: ['ReadWriteOnce'], storageClassName: 'slow', resources: { requests: { storage: '1Gi' } } };
    await objects.create({
      apiVersion: 'v1',
      kind: 'PersistentVolumeClaim',
      metadata: { name: 'tides', namespace: 'quay' },
      spec,
    } as KubernetesObject);
    expect(await ready()).toEqual(['Running', 'Running']);
    expect(fs.statSync(cluster.placeOfClaim('quay', 'tides')).isDirectory()).toBe(true);
    // what owns them goes, and they with it
    await objects.delete({ apiVersion: 'apps/v1', kind: 'Deployment', metadata: { name: 'board', namespace: 'quay' } });
    expect(await ready()).toEqual([]);
  });

  it('refuses what an account may not, and whom it does not know', async () => {
    const { core } = clientOf('reader');
    await expect(core.listNamespacedPod({ namespace: 'quay' })).resolves.toBeDefined();
    await expect(core.listNamespacedSecret({ namespace: 'quay' })).rejects.toThrow('403');
    await expect(clientOf('stranger').core.listNamespace()).rejects.toThrow('401');
  });
});

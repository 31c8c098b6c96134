import { textAt, valueAt, type JsonObject, type Resource } from '@lithodex/core';
import { SourceError } from '../source-error';
import type { ClusterClient } from './cluster-client';
import { helperName, taskLabel, until } from './helper-pod';

const group = 'snapshot.storage.k8s.io';
const frozenMs = 600_000;

/** A volume as it is to be read: a claim of its own, made of a snapshot; or the one that is in use. */
export interface FrozenVolume {
  readonly claim: Resource;
  /** The claim that is read. */
  readonly reads: string;
  readonly frozen: boolean;
}

/** Whether the cluster freezes volumes of a class: it needs a class of snapshots of the same driver. */
export async function freezableClasses(client: ClusterClient): Promise<Map<string, string>> {
  const found = new Map<string, string>();
  if (!(await client.knows('VolumeSnapshotClass', group)) || !(await client.knows('StorageClass', 'storage.k8s.io'))) return found;
  const byDriver = new Map<string, string>();
  try {
    for await (const c of client.list(await client.kindNamed('VolumeSnapshotClass', group), '')) {
      const driver = textAt(c, 'driver');
      const isDefault = textAt(c.metadata, 'annotations', 'snapshot.storage.kubernetes.io/is-default-class') === 'true';
      if (isDefault || !byDriver.has(driver)) byDriver.set(driver, c.metadata.name);
    }
    for await (const c of client.list(await client.kindNamed('StorageClass', 'storage.k8s.io'), '')) {
      const snapshots = byDriver.get(textAt(c, 'provisioner'));
      if (snapshots !== undefined) found.set(c.metadata.name, snapshots);
    }
  } catch (error) {
    if (!(error instanceof SourceError && error.code === 'CLUSTER_RIGHT_MISSING')) throw error;
  }
  return found;
}

/** Takes a snapshot of each claim, all of them at once, and waits until they are whole. Gives names of snapshots by claim. */
export async function freeze(
  client: ClusterClient,
  namespace: string,
  taskId: string,
  claims: readonly (readonly [claim: string, snapshotClass: string])[],
  stopped: () => boolean,
): Promise<Map<string, string>> {
  const snapshots = new Map<string, string>();
  if (claims.length === 0) return snapshots;
  const kind = await client.kindNamed('VolumeSnapshot', group);
  for (const [no, [claim, snapshotClass]] of claims.entries()) {
    const name = helperName(taskId, 'snapshot', no);
    await client.remove(kind, namespace, name);
    await client.create(kind, namespace, {
      apiVersion: `${group}/${kind.version}`,
      kind: 'VolumeSnapshot',
      metadata: { name, labels: { [taskLabel]: taskId } },
      spec: { volumeSnapshotClassName: snapshotClass, source: { persistentVolumeClaimName: claim } },
    });
    snapshots.set(claim, name);
  }
  for (const [claim, name] of snapshots) {
    const ready = await until(
      async () => {
        const found = await client.get(kind, namespace, name);
        const error = textAt(found, 'status', 'error', 'message');
        if (error) throw new SourceError('VOLUME_FAILED', `the snapshot of ${claim}: ${error}`);
        return valueAt(found, 'status', 'readyToUse') === true ? found : undefined;
      },
      frozenMs,
      stopped,
    );
    if (!ready) throw new SourceError('VOLUME_FAILED', `the snapshot of ${claim} is not whole after ${frozenMs / 60_000} min`);
  }
  return snapshots;
}

/** A claim whose volume is made of a snapshot. */
export async function claimOfSnapshot(
  client: ClusterClient,
  namespace: string,
  taskId: string,
  no: number,
  claim: Resource,
  snapshot: string,
): Promise<string> {
  const kind = await client.kindNamed('PersistentVolumeClaim');
  const name = helperName(taskId, 'volume', no);
  await client.remove(kind, namespace, name);
  const { accessModes, resources, storageClassName, volumeMode } = claim['spec'] as JsonObject;
  await client.create(kind, namespace, {
    apiVersion: 'v1',
    kind: 'PersistentVolumeClaim',
    metadata: { name, labels: { [taskLabel]: taskId } },
    spec: {
      ...(accessModes !== undefined && { accessModes }),
      ...(resources !== undefined && { resources }),
      ...(storageClassName !== undefined && { storageClassName }),
      ...(volumeMode !== undefined && { volumeMode }),
      dataSource: { apiGroup: group, kind: 'VolumeSnapshot', name: snapshot },
    },
  });
  return name;
}

/** Takes away what a capture made to read volumes. */
export async function thaw(client: ClusterClient, namespace: string, taskId: string, count: number): Promise<void> {
  const claims = await client.kindNamed('PersistentVolumeClaim');
  for (let no = 0; no < count; no++) {
    await client.remove(claims, namespace, helperName(taskId, 'volume', no));
    if (await client.knows('VolumeSnapshot', group))
      await client.remove(await client.kindNamed('VolumeSnapshot', group), namespace, helperName(taskId, 'snapshot', no));
  }
}

import { setTimeout as pause } from 'node:timers/promises';
import { listAt, textAt, valueAt, type JsonObject, type Resource } from '@lithodex/core';
import { EngineError } from '@lithodex/engine';
import { SourceError } from '../source-error';
import type { ClusterClient } from './cluster-client';
import type { InPod } from './pod-commands';

/** On everything that a task makes for its own use, with the id of the task: what is left of one that is gone is taken away. */
export const taskLabel = 'lithodex-task';
/** Where a helper sees the volume: as a folder, or as a disk. */
export const volumePath = '/volume';
export const diskPath = '/dev/volume';

const waitMs = 300;
const mostSeconds = 86_400;

/** Names of a helper of a task. */
export const helperName = (taskId: string, what: string, no: number): string => `lithodex-${what}-${taskId.slice(0, 8)}-${no}`;

/** A pod that does nothing but hold a claim, for commands that read or fill it. */
export function helperPod(
  name: string,
  taskId: string,
  claim: string,
  image: string,
  { block, writes }: { readonly block: boolean; readonly writes: boolean },
): JsonObject {
  const place: JsonObject = block
    ? { volumeDevices: [{ name: 'volume', devicePath: diskPath }] }
    : { volumeMounts: [{ name: 'volume', mountPath: volumePath, readOnly: !writes }] };
  return {
    apiVersion: 'v1',
    kind: 'Pod',
    metadata: { name, labels: { [taskLabel]: taskId } },
    spec: {
      restartPolicy: 'Never',
      activeDeadlineSeconds: mostSeconds,
      automountServiceAccountToken: false,
      terminationGracePeriodSeconds: 0,
      securityContext: { runAsUser: 0 },
      containers: [{ name: 'helper', image, command: ['sleep', String(mostSeconds)], ...place }],
      volumes: [{ name: 'volume', persistentVolumeClaim: { claimName: claim } }],
    },
  };
}

/** Looks until something is so, or the time is over. Gives undefined when it is over. Throws STOPPED. */
export async function until<T>(look: () => Promise<T | undefined>, ms: number, stopped: () => boolean): Promise<T | undefined> {
  for (const end = Date.now() + ms; ;) {
    if (stopped()) throw new EngineError('STOPPED');
    const found = await look();
    if (found !== undefined || Date.now() > end) return found;
    await pause(waitMs);
  }
}

/** What a pod waits for, in words; '' where it says nothing. */
export function waitsFor(pod: Resource | undefined): string {
  const waiting = listAt(pod, 'status', 'containerStatuses').map((c) => textAt(c, 'state', 'waiting', 'reason'));
  return waiting.find(Boolean) ?? (textAt(pod, 'status', 'reason') || textAt(pod, 'status', 'phase'));
}

export const isReady = (pod: Resource): boolean =>
  listAt(pod, 'status', 'conditions').some((c) => textAt(c, 'type') === 'Ready' && textAt(c, 'status') === 'True');

/** Makes a helper with a claim, runs `use` with it and takes it away again. Throws VOLUME_FAILED where it does not start. */
export async function withHelper<T>(
  client: ClusterClient,
  namespace: string,
  pod: JsonObject,
  { ms, stopped }: { readonly ms: number; readonly stopped: () => boolean },
  use: (at: InPod) => Promise<T>,
): Promise<T> {
  const kind = await client.kindNamed('Pod');
  const name = textAt(valueAt(pod, 'metadata'), 'name');
  await client.remove(kind, namespace, name);
  await client.create(kind, namespace, pod);
  try {
    let last: Resource | undefined;
    const ready = await until(
      async () => {
        last = await client.get(kind, namespace, name);
        return last && isReady(last) ? last : undefined;
      },
      ms,
      stopped,
    );
    if (!ready)
      throw new SourceError(
        'VOLUME_FAILED',
        `the helper with the volume did not start within ${Math.round(ms / 1000)} s: ${waitsFor(last)}`,
      );
    return await use({ namespace, pod: name, container: 'helper' });
  } finally {
    await client.remove(kind, namespace, name);
  }
}

/** Takes away what tasks made for their own use, where `mine` says so. Gives how many there were. */
export async function sweepHelpers(
  client: ClusterClient,
  namespace: string,
  mine: (taskIds: string[]) => Promise<readonly string[]>,
): Promise<number> {
  const found: { readonly kind: Awaited<ReturnType<ClusterClient['kindNamed']>>; readonly name: string; readonly task: string }[] = [];
  const own = [
    ['Pod', ''],
    ['PersistentVolumeClaim', ''],
    ['VolumeSnapshot', 'snapshot.storage.k8s.io'],
  ] as const;
  for (const [called, group] of own) {
    if (!(await client.knows(called, group))) continue;
    const kind = await client.kindNamed(called, group);
    for await (const { metadata } of client.list(kind, namespace, taskLabel))
      found.push({ kind, name: metadata.name, task: textAt(metadata, 'labels', taskLabel) });
  }
  if (found.length === 0) return 0;
  const tasks = new Set(await mine([...new Set(found.map((f) => f.task))]));
  const gone = found.filter((f) => tasks.has(f.task));
  for (const { kind, name } of gone) await client.remove(kind, namespace, name);
  return gone.length;
}

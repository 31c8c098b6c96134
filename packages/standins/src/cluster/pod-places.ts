import type { ClusterObjects, Held } from './objects';
import { list, text } from './read-value';
import type { ClusterVolumes } from './volumes';

/** What a container sees where: paths in it, and where these lie here. Longest first. */
export function placesOf(objects: ClusterObjects, volumes: ClusterVolumes, pod: Held, container: unknown): (readonly [string, string])[] {
  const space = pod.metadata.namespace ?? '';
  const claims = new Map(list(pod.spec, 'volumes').map((v) => [text(v, 'name'), text(v, 'persistentVolumeClaim', 'claimName')]));
  const place = (volume: string) => {
    const claim = objects.get('PersistentVolumeClaim', space, claims.get(volume) ?? '');
    const handle = text(claim?.spec, 'volumeName');
    return handle === '' ? undefined : volumes.place(handle);
  };
  const mounts = [
    ...list(container, 'volumeMounts').map((m) => [text(m, 'mountPath'), text(m, 'name')] as const),
    ...list(container, 'volumeDevices').map((m) => [text(m, 'devicePath'), text(m, 'name')] as const),
  ];
  return mounts
    .flatMap(([path, volume]) => {
      const at = place(volume);
      return at === undefined ? [] : [[path, at] as const];
    })
    .sort((a, b) => b[0].length - a[0].length);
}

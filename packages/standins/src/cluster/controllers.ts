import { createHash } from 'node:crypto';
import type { ClusterObjects, Held } from './objects';
import { at, bytesOf, list, number, text, words } from './read-value';
import { kindNamed } from './resource-kinds';
import type { ClusterSwitches } from './switches';
import type { ClusterVolumes } from './volumes';

const nameOf = (object: Held) => object.metadata.name;
const spaceOf = (object: Held) => object.metadata.namespace ?? '';

/** What a cluster does by itself: volumes for claims, snapshots, pods of what is to run, and away with what nobody owns. */
export class Controllers {
  constructor(
    private readonly objects: ClusterObjects,
    private readonly volumes: ClusterVolumes,
    private readonly switches: ClusterSwitches,
    private readonly now: () => number,
    /** Where routes answer. */
    private readonly gate: () => { readonly host: string; readonly port: number },
  ) {}

  /** Acts until nothing is left to do. */
  settle(): void {
    for (let round = 0; round < 50 && this.round(); round++);
  }

  private round(): boolean {
    const { objects } = this;
    const acts = [
      ...objects.of('Namespace').map((o) => () => this.namespace(o)),
      ...objects.of('PersistentVolumeClaim').map((o) => () => this.claim(o)),
      ...objects.of('VolumeSnapshot').map((o) => () => this.snapshot(o)),
      ...objects.of('Deployment').map((o) => () => this.workers(o, number(o.spec, 'replicas'), false)),
      ...objects.of('StatefulSet').map((o) => () => this.workers(o, number(o.spec, 'replicas'), true)),
      ...objects.of('Pod').map((o) => () => this.pod(o)),
      ...objects.of('Ingress').map((o) => () => this.ingress(o)),
      () => this.orphans(),
    ];
    let acted = false;
    for (const act of acts) acted = act() || acted;
    return acted;
  }

  private namespace(o: Held): boolean {
    const name = nameOf(o);
    const own = [
      ['ServiceAccount', 'default', {}],
      ['ConfigMap', 'kube-root-ca.crt', { data: { 'ca.crt': 'made up' } }],
    ] as const;
    let acted = this.objects.say('Namespace', o, { phase: 'Active' });
    for (const [kind, called, rest] of own)
      if (!this.objects.get(kind, name, called)) {
        this.objects.put(kindNamed(kind), name, { metadata: { name: called }, ...rest });
        acted = true;
      }
    return acted;
  }

  private claim(o: Held): boolean {
    const { objects, volumes } = this;
    if (text(o.status, 'phase') === 'Bound') return false;
    const space = spaceOf(o);
    const classes = objects.of('StorageClass');
    const asked = text(o.spec, 'storageClassName');
    const cls = asked
      ? classes.find((c) => nameOf(c) === asked)
      : classes.find((c) => words(c.metadata.annotations)['storageclass.kubernetes.io/is-default-class'] === 'true');
    if (!cls) return objects.say('PersistentVolumeClaim', o, { phase: 'Pending' });
    const used = () => objects.of('Pod', space).some((p) => claimNames(p).includes(nameOf(o)));
    if (cls['volumeBindingMode'] === 'WaitForFirstConsumer' && !used())
      return objects.say('PersistentVolumeClaim', o, { phase: 'Pending' });
    const mode = text(o.spec, 'volumeMode') || 'Filesystem';
    const size = text(o.spec, 'resources', 'requests', 'storage');
    const source = text(o.spec, 'dataSource', 'name');
    let from: string | undefined;
    if (source !== '') {
      const snapshot = objects.get('VolumeSnapshot', space, source);
      if (!snapshot || at(snapshot.status, 'readyToUse') !== true) return objects.say('PersistentVolumeClaim', o, { phase: 'Pending' });
      from = handleOf(objects.get('VolumeSnapshotContent', '', text(snapshot.status, 'boundVolumeSnapshotContentName')));
    }
    const name = `pvc-${o.metadata.uid}`;
    volumes.make(name, mode, bytesOf(size), from);
    objects.put(kindNamed('PersistentVolume'), '', {
      metadata: { name },
      spec: {
        capacity: { storage: size },
        accessModes: at(o.spec, 'accessModes'),
        volumeMode: mode,
        storageClassName: nameOf(cls),
        csi: { driver: cls['provisioner'], volumeHandle: name },
        claimRef: { namespace: space, name: nameOf(o), uid: o.metadata.uid },
      },
      status: { phase: 'Bound' },
    });
    objects.put(kindNamed('PersistentVolumeClaim'), space, {
      ...o,
      spec: { ...(o.spec as object), volumeName: name, volumeMode: mode, storageClassName: nameOf(cls) },
      status: { phase: 'Bound', capacity: { storage: size }, accessModes: at(o.spec, 'accessModes') },
    });
    return true;
  }

  private snapshot(o: Held): boolean {
    const { objects, volumes } = this;
    if (o.status !== undefined) return false;
    if (this.switches.failSnapshots)
      return objects.say('VolumeSnapshot', o, { readyToUse: false, error: { message: 'the storage has no room for it' } });
    const claim = objects.get('PersistentVolumeClaim', spaceOf(o), text(o.spec, 'source', 'persistentVolumeClaimName'));
    if (text(claim?.status, 'phase') !== 'Bound') return false;
    const handle = `snap-${o.metadata.uid}`;
    volumes.freeze(text(claim!.spec, 'volumeName'), handle);
    const content = `snapcontent-${o.metadata.uid}`;
    objects.put(kindNamed('VolumeSnapshotContent'), '', {
      metadata: { name: content },
      spec: { volumeSnapshotRef: { namespace: spaceOf(o), name: nameOf(o), uid: o.metadata.uid } },
      status: { snapshotHandle: handle, readyToUse: true },
    });
    const creationTime = new Date(this.now()).toISOString();
    return objects.say('VolumeSnapshot', o, {
      boundVolumeSnapshotContentName: content,
      readyToUse: true,
      creationTime,
      restoreSize: text(claim!.spec, 'resources', 'requests', 'storage'),
    });
  }

  private workers(o: Held, replicas: number, ordered: boolean): boolean {
    const { objects } = this;
    const space = spaceOf(o);
    const template = at(o.spec, 'template');
    const hash = createHash('sha256').update(JSON.stringify(template)).digest('hex').slice(0, 8);
    const wanted = Array.from({ length: replicas }, (_, i) => ({
      name: ordered ? `${nameOf(o)}-${i}` : `${nameOf(o)}-${hash}-${i}`,
      index: i,
    }));
    const mine = objects.of('Pod', space).filter((p) => p.metadata.ownerReferences?.[0]?.uid === o.metadata.uid);
    let acted = false;
    for (const pod of mine)
      if (pod.metadata.annotations?.['template'] !== hash || !wanted.some((w) => w.name === nameOf(pod))) {
        objects.remove(kindNamed('Pod'), space, nameOf(pod));
        acted = true;
      }
    for (const { name, index } of wanted) {
      if (objects.get('Pod', space, name)) continue;
      const spec = at(template, 'spec') as Record<string, unknown>;
      const own = list(o.spec, 'volumeClaimTemplates').map((t) => {
        const claim = `${text(t, 'metadata', 'name')}-${nameOf(o)}-${index}`;
        if (!objects.get('PersistentVolumeClaim', space, claim))
          objects.put(kindNamed('PersistentVolumeClaim'), space, {
            metadata: { name: claim, labels: words(t, 'metadata', 'labels') },
            spec: at(t, 'spec'),
          });
        return { name: text(t, 'metadata', 'name'), persistentVolumeClaim: { claimName: claim } };
      });
      objects.put(kindNamed('Pod'), space, {
        metadata: {
          name,
          labels: words(template, 'metadata', 'labels'),
          annotations: { ...words(template, 'metadata', 'annotations'), template: hash },
          ownerReferences: [{ apiVersion: o.apiVersion, kind: o.kind, name: nameOf(o), uid: o.metadata.uid, controller: true }],
        },
        spec: { ...spec, volumes: [...list(spec, 'volumes'), ...own] },
      });
      acted = true;
    }
    const ready = objects.of('Pod', space).filter((p) => p.metadata.ownerReferences?.[0]?.uid === o.metadata.uid && isReady(p)).length;
    const status = {
      observedGeneration: o.metadata.generation,
      replicas: wanted.length,
      updatedReplicas: wanted.length,
      readyReplicas: ready,
      availableReplicas: ready,
    };
    return objects.say(o.kind, o, status) || acted;
  }

  private pod(o: Held): boolean {
    const why = this.whyNotReady(o);
    const containers = list(o.spec, 'containers').map((c) => ({
      name: text(c, 'name'),
      ready: why === undefined,
      state: why === undefined ? { running: {} } : { waiting: { reason: why } },
    }));
    return this.objects.say('Pod', o, {
      phase: why === undefined ? 'Running' : 'Pending',
      conditions: [{ type: 'Ready', status: why === undefined ? 'True' : 'False' }],
      containerStatuses: containers,
      podIP: '10.44.0.7',
    });
  }

  private whyNotReady(o: Held): string | undefined {
    const { objects, switches } = this;
    const space = spaceOf(o);
    const claims = claimNames(o).map((c) => objects.get('PersistentVolumeClaim', space, c));
    if (claims.some((c) => text(c?.status, 'phase') !== 'Bound')) return 'ContainerCreating';
    const containers = list(o.spec, 'containers');
    if (containers.some((c) => switches.missingImages.includes(text(c, 'image')))) return 'ImagePullBackOff';
    const sources = containers.flatMap((c) => [...list(c, 'envFrom'), ...list(c, 'env').map((e) => at(e, 'valueFrom'))]);
    const missing = (kind: string, name: string) => name !== '' && !objects.get(kind, space, name);
    if (sources.some((s) => missing('ConfigMap', text(s, 'configMapRef', 'name') || text(s, 'configMapKeyRef', 'name'))))
      return 'CreateContainerConfigError';
    if (sources.some((s) => missing('Secret', text(s, 'secretRef', 'name') || text(s, 'secretKeyRef', 'name'))))
      return 'CreateContainerConfigError';
    const selector = words(o.spec, 'nodeSelector');
    const fits = objects.of('Node').some((n) => Object.entries(selector).every(([k, v]) => n.metadata.labels?.[k] === v));
    if (Object.keys(selector).length && !fits) return 'Unschedulable';
    return this.now() - Date.parse(o.metadata.creationTimestamp) < switches.startMs ? 'ContainerCreating' : undefined;
  }

  private ingress(o: Held): boolean {
    const { host, port } = this.gate();
    return this.objects.say('Ingress', o, { loadBalancer: { ingress: [{ ip: host, ports: [{ port, protocol: 'TCP' }] }] } });
  }

  /** What belongs to something that is gone goes as well, and volumes with their claims. */
  private orphans(): boolean {
    const { objects, volumes } = this;
    const all = objects.everything();
    const uids = new Set(all.map((o) => o.object.metadata.uid));
    const spaces = new Set(objects.of('Namespace').map(nameOf));
    let acted = false;
    const remove = (kind: string, space: string, name: string) => {
      objects.remove(kindNamed(kind), space, name);
      acted = true;
    };
    for (const { object } of all) {
      const owners = object.metadata.ownerReferences ?? [];
      const ownerless = owners.length > 0 && owners.every((r) => !uids.has(r.uid));
      if (ownerless || (spaceOf(object) !== '' && !spaces.has(spaceOf(object)))) remove(object.kind, spaceOf(object), nameOf(object));
    }
    for (const pv of objects.of('PersistentVolume'))
      if (!uids.has(text(pv.spec, 'claimRef', 'uid'))) {
        volumes.remove(text(pv.spec, 'csi', 'volumeHandle'));
        remove('PersistentVolume', '', nameOf(pv));
      }
    for (const content of objects.of('VolumeSnapshotContent'))
      if (!uids.has(text(content.spec, 'volumeSnapshotRef', 'uid'))) {
        volumes.letGo(handleOf(content)!);
        remove('VolumeSnapshotContent', '', nameOf(content));
      }
    return acted;
  }
}

const handleOf = (content: Held | undefined): string | undefined => content && text(content.status, 'snapshotHandle');
export const isReady = (pod: Held): boolean =>
  list(pod.status, 'conditions').some((c) => text(c, 'type') === 'Ready' && text(c, 'status') === 'True');
export const claimNames = (pod: Held): string[] =>
  list(pod.spec, 'volumes')
    .map((v) => text(v, 'persistentVolumeClaim', 'claimName'))
    .filter(Boolean);

import { bytesOfText, countOf, formatBytes, kindOf, textAt, withoutSecrets, type Resource } from '@lithodex/core';
import { byName, EngineError, topEntry, writeFolder, type TreeEntry } from '@lithodex/engine';
import type { ApplicationFrom, ApplicationPoint, PointVolume } from '@lithodex/kinds';
import type { PointWriting } from '../capture-store';
import type { CaptureContext, PointContent } from '../connector';
import { ItemWriting } from '../item-writing';
import { readResources } from './application-resources';
import { ClusterClient } from './cluster-client';
import { claimOfSnapshot, freezableClasses, freeze, thaw } from './frozen-volumes';
import { helperName, helperPod, sweepHelpers, withHelper } from './helper-pod';
import { classOf, isBlock, isUnused, placeOf, roomOf, seriesOf } from './place-of';
import { whileQuiet, type Quiet } from './quiet-pods';
import { readDisk, readVolume, type VolumeReading } from './read-volume';
import { fileOf, folderOf, resourcesFolder, textOf, volumesFolder, withSealed } from './resource-files';

const expectedChunks = 65_536;
const helperMs = 600_000;

/** Takes an application: its resources as text, and its volumes, frozen at one moment where the cluster can. Throws SourceError, STOPPED. */
export function captureApplication(ctx: CaptureContext, { server, namespace }: ApplicationFrom): Promise<PointContent> {
  const writing = ctx.store.begin(expectedChunks, ctx.fresh);
  return writing.during(async () => {
    const client = new ClusterClient(server, ctx.stopped);
    try {
      return await new ApplicationCapture(ctx, writing, client, namespace).run();
    } finally {
      await client.close();
    }
  });
}

interface Claim {
  readonly no: number;
  readonly claim: Resource;
  readonly snapshotClass: string | undefined;
}

class ApplicationCapture {
  private readonly out: ItemWriting;

  constructor(
    private readonly ctx: CaptureContext,
    private readonly writing: PointWriting,
    private readonly client: ClusterClient,
    private readonly namespace: string,
  ) {
    this.out = new ItemWriting(ctx, writing);
  }

  async run(): Promise<PointContent> {
    const { ctx, out, client, namespace, writing } = this;
    await this.sweep();
    const classes = await freezableClasses(client);
    const { resources, live, refused, derived } = await readResources(client, namespace, () => {
      out.goOn();
    });
    for (const kind of refused)
      out.warn('RESOURCES_UNREAD', resourcesFolder, `${kind} can not be listed: the account lacks the right`, true);
    if (derived) out.note('DERIVED', resourcesFolder, `${countOf(derived, 'resource')} left out: the cluster makes them of others`);
    const claims = live.filter((r) => kindOf(r) === 'PersistentVolumeClaim' && !isUnused(r) && boundVolume(r));
    const wanted = claims
      .filter((c) => !out.leftOut(this.pathOf(c), !isBlock(c)))
      .map((claim, no): Claim => ({
        no,
        claim,
        snapshotClass: classes.get(classOf(claim)),
      }));
    try {
      const { result: snapshots, quiet } = await this.freezeAll(wanted);
      const volumes: { readonly entry: TreeEntry; readonly volume: PointVolume }[] = [];
      for (const one of wanted) volumes.push(await this.volume(one, snapshots.get(one.claim.metadata.name)));
      const folders = await this.resourceFolders(resources);
      const top = this.folder('', [
        this.folder(resourcesFolder, folders),
        ...(volumes.length
          ? [
              this.folder(
                volumesFolder,
                volumes.map((v) => v.entry),
              ),
            ]
          : []),
      ]);
      await out.passed();
      const counts = await writing.finish();
      const facts: ApplicationPoint = {
        kind: 'application',
        namespace,
        version: await client.version(),
        resources: resources.length,
        kinds: countKinds(resources),
        volumes: volumes.map((v) => v.volume),
        quiet,
        place: await placeOf(client, live),
      };
      return out.pointOf(top, counts, { kind: 'application', version: 1, facts, state: {} });
    } finally {
      await thaw(client, namespace, ctx.taskId, wanted.length);
    }
  }

  /** What earlier tasks left that were ended in the middle. */
  private async sweep(): Promise<void> {
    const { ctx, client, namespace } = this;
    const swept = await sweepHelpers(client, namespace, async (tasks) => {
      const alive = await ctx.alive(tasks.filter((t) => t !== ctx.taskId));
      return tasks.filter((t) => !alive.includes(t));
    });
    if (swept) ctx.note({ code: 'SWEPT', path: '', message: `${countOf(swept, 'helper')} of earlier runs taken away` });
  }

  private pathOf(claim: Resource): string {
    return `${volumesFolder}/${bytesOfText(seriesOf(claim))}${isBlock(claim) ? '.img' : ''}`;
  }

  private async freezeAll(wanted: readonly Claim[]): Promise<{ readonly result: Map<string, string>; readonly quiet: Quiet }> {
    const { ctx, out, client, namespace } = this;
    const say = (pod: string, why: string) => {
      out.warn('QUIESCE_FAILED', '', `${pod} was not brought to rest: ${why}`, false);
    };
    return whileQuiet(client, namespace, say, ctx.stopped, async () => {
      const snapshots = new Map<string, string>();
      const freezable = wanted.flatMap(({ claim, snapshotClass }) =>
        snapshotClass === undefined ? [] : [[claim.metadata.name, snapshotClass] as const],
      );
      if (freezable.length) {
        for (const [claim, snapshot] of await freeze(client, namespace, ctx.taskId, freezable, ctx.stopped)) snapshots.set(claim, snapshot);
        out.note('SNAPSHOT', volumesFolder, `${countOf(snapshots.size, 'volume')} frozen, one after the other within this moment`);
      }
      return snapshots;
    });
  }

  private async volume(
    { no, claim, snapshotClass }: Claim,
    snapshot: string | undefined,
  ): Promise<{ readonly entry: TreeEntry; readonly volume: PointVolume }> {
    const { ctx, out, client, namespace, writing } = this;
    const { taskId, stopped } = ctx;
    const name = claim.metadata.name;
    if (snapshot === undefined)
      out.warn(
        'VOLUME_IN_USE',
        this.pathOf(claim),
        `${snapshotClass === undefined ? 'its class can not be frozen' : 'it was not frozen'}: read while it is used, as its files change`,
        false,
      );
    const madeAt = Date.now();
    const reads = snapshot === undefined ? name : await claimOfSnapshot(client, namespace, taskId, no, claim, snapshot);
    const block = isBlock(claim);
    const pod = helperPod(helperName(taskId, 'reader', no), taskId, reads, client.cluster.image, { block, writes: false });
    const path = this.pathOf(claim);
    const base = await this.baseOf(path);
    const before = { items: out.progress.items, bytes: out.progress.bytes };
    const entry = await withHelper(client, namespace, pod, { ms: helperMs, stopped }, (at) => {
      const reading: VolumeReading = {
        out,
        put: writing.put,
        cluster: client.cluster,
        at,
        base,
        path,
        madeAt,
        frozen: snapshot !== undefined,
      };
      return block ? readDisk(reading, path.slice(path.indexOf('/') + 1)) : readVolume(reading);
    });
    const volume: PointVolume = {
      claim: name,
      class: classOf(claim),
      mode: block ? 'Block' : 'Filesystem',
      room: roomOf(claim),
      items: out.progress.items - before.items,
      bytes: entry.folder?.bytes ?? entry.size,
      frozen: snapshot !== undefined,
    };
    out.note('VOLUME', path, `${formatBytes(volume.bytes)} in ${countOf(volume.items, 'item')}`);
    return { entry, volume };
  }

  private async baseOf(path: string): Promise<TreeEntry | undefined> {
    const { base, store } = this.ctx;
    if (!base) return undefined;
    let at = topEntry(base);
    for (const part of path.split('/')) {
      try {
        at = await store.trees.find(at, part);
      } catch (error) {
        if (error instanceof EngineError && error.code === 'PATH_MISSING') return undefined;
        throw error;
      }
    }
    return at;
  }

  private async resourceFolders(resources: readonly Resource[]): Promise<TreeEntry[]> {
    const { out } = this;
    const byFolder = new Map<string, TreeEntry[]>();
    for (const resource of resources) {
      out.goOn();
      const [folder, name] = [folderOf(resource), fileOf(resource)];
      if (out.leftOut(`${resourcesFolder}/${folder}/${name}`, false) || out.leftOut(`${resourcesFolder}/${folder}`, true)) continue;
      const { shown, sealed } = withoutSecrets(resource);
      const { size, content, random } = await out.content(Buffer.from(textOf(shown)));
      const entry: TreeEntry = { ...plain(name), size, ...(content && { content }), ...(random && { random }), ...withSealed(sealed) };
      byFolder.set(folder, [...(byFolder.get(folder) ?? []), entry]);
      out.progress.items++;
      out.progress.files++;
    }
    return [...byFolder].map(([name, entries]) => this.folder(name, entries));
  }

  private folder(name: string, entries: TreeEntry[]): TreeEntry {
    this.out.progress.items++;
    return { ...plain(name), kind: 'folder', mode: 0o700, folder: writeFolder(this.writing.put, entries.sort(byName)) };
  }
}

const plain = (name: string): TreeEntry => ({
  name,
  kind: 'file',
  mode: 0o600,
  uid: 0,
  gid: 0,
  mtimeNs: 0n,
  ctimeNs: 0n,
  inode: 0,
  size: 0,
});

const boundVolume = (claim: Resource) => textAt(claim, 'status', 'phase') === 'Bound';

function countKinds(resources: readonly Resource[]): Record<string, number> {
  const kinds: Record<string, number> = {};
  for (const r of resources) kinds[kindOf(r)] = (kinds[kindOf(r)] ?? 0) + 1;
  return kinds;
}

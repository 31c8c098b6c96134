import {
  asWritten,
  atRest,
  countOf,
  inRestoreOrder,
  kindOf,
  nameOf,
  patchBetween,
  sameJson,
  stepOf,
  withClaim,
  type JsonObject,
  type Resource,
  type RestoreAction,
} from '@lithodex/core';
import { EngineError } from '@lithodex/engine';
import type { ApplicationTo } from '@lithodex/kinds';
import type { RestoreContext, RestoreOutcome, RestorePick } from '../connector';
import { SourceError } from '../source-error';
import { ClusterClient } from './cluster-client';
import { isUnused } from './place-of';
import { sweepHelpers } from './helper-pod';
import { kept, onItsWay } from './rewritten';
import { bringBackVolume, type VolumeBack } from './restore-volume';
import { storedApplication, type StoredApplication, type StoredResource } from './stored-application';
import { routesAnswer, switchClaims, waitUntilUp } from './start-application';

/** Brings an application back: its namespace, its volumes, then what it is made of, and starts it. A trial looks what would happen and writes nothing. Throws SourceError, STOPPED. */
export async function restoreApplication(
  ctx: RestoreContext,
  picks: readonly RestorePick[],
  { server, destination }: ApplicationTo,
): Promise<RestoreOutcome> {
  const client = new ClusterClient(server, ctx.stopped);
  try {
    const stored = await storedApplication(
      await picks[0]!.open(),
      picks.map((p) => p.path),
    );
    return await new ApplicationRestore(ctx, client, destination, stored).run();
  } finally {
    await client.close();
  }
}

interface Prepared {
  readonly stored: StoredResource;
  readonly resource: Resource;
}

class ApplicationRestore {
  private readonly acts = new Map<RestoreAction | 'failed', number>();
  private spaceThere = false;
  /** Of claims that came beside: old name and new one. */
  private readonly switched = new Map<string, string>();
  private touched: Resource[] = [];

  constructor(
    private readonly ctx: RestoreContext,
    private readonly client: ClusterClient,
    private readonly to: ApplicationTo['destination'],
    private readonly stored: StoredApplication,
  ) {}

  private goOn(): void {
    if (this.ctx.stopped()) throw new EngineError('STOPPED');
  }

  async run(): Promise<RestoreOutcome> {
    const { ctx, client, to, stored } = this;
    ctx.phase('preparing');
    const prepared = this.prepare();
    await this.space(prepared.find((p) => p.resource.kind === 'Namespace')?.resource);
    if (!ctx.trial) await sweepHelpers(client, to.namespace, (tasks) => Promise.resolve(tasks.filter((t) => t === ctx.taskId)));
    const rest = prepared.filter((p) => p.resource.kind !== 'Namespace');
    await this.step(rest, 'rights');
    if (to.volumes) await this.volumes();
    await this.emptyClaims(rest);
    await this.step(rest, 'config');
    await this.step(rest, 'work');
    await this.step(rest, 'routes');
    if (this.switched.size && !ctx.trial) this.touched.push(...(await switchClaims(client, to.namespace, this.switched)));
    if (to.start && !ctx.trial && this.failures === 0) await this.start(rest);
    const count = (action: RestoreAction) => this.acts.get(action) ?? 0;
    const parts = [
      `${countOf(count('write'), 'part')} of ${stored.facts.namespace} made in ${to.namespace}`,
      ...(count('replace') ? [`${count('replace')} made as they were`] : []),
      ...(count('beside') ? [`${countOf(count('beside'), 'volume')} put beside and switched to`] : []),
      ...(count('same') ? [`${count('same')} there already`] : []),
      ...(count('leave') ? [`${count('leave')} left as they are`] : []),
    ];
    const items = [...this.acts.values()].reduce((sum, n) => sum + n, 0);
    return { items, summary: `${ctx.trial ? 'tried without writing: ' : ''}${parts.join(', ')}` };
  }

  private get failures(): number {
    return this.acts.get('failed') ?? 0;
  }

  private prepare(): Prepared[] {
    const { stored, to } = this;
    const ready = stored.resources.map((s) => ({
      stored: s,
      resource: onItsWay(s.resource, stored.facts.namespace, to.namespace, to.rewrites).resource,
    }));
    const order = inRestoreOrder(ready.map((r) => r.resource));
    return ready.sort((a, b) => order.indexOf(a.resource) - order.indexOf(b.resource));
  }

  /** Makes the namespace where it is not there. */
  private async space(own: Resource | undefined): Promise<void> {
    const { ctx, client, to } = this;
    const kind = await client.kindNamed('Namespace');
    this.spaceThere = (await client.get(kind, '', to.namespace)) !== undefined;
    if (this.spaceThere) return;
    if (ctx.trial) return;
    const { labels, annotations } = (own?.metadata ?? {}) as JsonObject;
    const kept = Object.fromEntries(
      Object.entries((labels ?? {}) as JsonObject).filter(([name]) => name !== 'kubernetes.io/metadata.name'),
    );
    await client.create(kind, '', {
      apiVersion: 'v1',
      kind: 'Namespace',
      metadata: { name: to.namespace, labels: kept, ...(annotations !== undefined && { annotations }) },
    });
    ctx.note({ code: 'NAMESPACE_MADE', path: '', message: `the namespace ${to.namespace} was made` });
  }

  private async tell(
    path: string,
    action: RestoreAction | 'failed',
    bytes: number,
    remark: string,
    kind: 'file' | 'folder' = 'file',
  ): Promise<void> {
    this.acts.set(action, (this.acts.get(action) ?? 0) + 1);
    this.ctx.done({ path, action, kind, bytes, remark });
    await this.ctx.drain();
  }

  private async step(all: readonly Prepared[], step: ReturnType<typeof stepOf>): Promise<void> {
    const { ctx } = this;
    ctx.phase(step);
    for (const { stored, resource } of all) {
      if (stepOf(resource) !== step) continue;
      this.goOn();
      try {
        const { action, remark } = await this.make(resource);
        await this.tell(stored.path, action, stored.bytes, remark);
      } catch (error) {
        if (!(error instanceof SourceError) || ['CLUSTER_REFUSED', 'CLUSTER_AWAY'].includes(error.code)) throw error;
        await this.tell(stored.path, 'failed', stored.bytes, error.message);
      }
    }
  }

  private async make(wanted: Resource): Promise<{ readonly action: RestoreAction; readonly remark: string }> {
    const { ctx, client, to } = this;
    const resting = to.start ? wanted : atRest(wanted);
    if (!resting) return { action: 'leave', remark: 'it would start by being there' };
    const resource = kept([...this.switched].reduce((at, [from, now]) => withClaim(at, from, now) ?? at, resting));
    const kind = await client.kindOf(resource);
    const before = this.spaceThere || !ctx.trial ? await client.get(kind, to.namespace, resource.metadata.name) : undefined;
    if (!before) {
      if (!ctx.trial) this.touched.push(await client.create(kind, to.namespace, resource));
      return { action: 'write', remark: '' };
    }
    const now = asWritten(before);
    if (sameJson(now, resource)) {
      this.touched.push(before);
      return { action: 'same', remark: '' };
    }
    if (to.exists === 'leave') return { action: 'leave', remark: '' };
    if (!ctx.trial) this.touched.push(await client.change(kind, to.namespace, resource.metadata.name, patchBetween(now, resource)));
    return { action: 'replace', remark: '' };
  }

  private async volumes(): Promise<void> {
    const { ctx, client, to, stored } = this;
    ctx.phase('volumes');
    for (const volume of stored.volumes) {
      this.goOn();
      const claim = onItsWay(volume.claim, stored.facts.namespace, to.namespace, to.rewrites).resource;
      const back: VolumeBack = { client, ctx, to, stored, volume, claim, there: this.spaceThere };
      const { action, name, remark } = await bringBackVolume(back);
      if (action === 'beside') this.switched.set(claim.metadata.name, name);
      await this.tell(volume.path, action, volume.entry.folder?.bytes ?? volume.entry.size, remark, volume.block ? 'file' : 'folder');
    }
  }

  /** Claims whose volumes are not brought: whatever mounts them finds an empty one, as the cluster makes it. */
  private async emptyClaims(all: readonly Prepared[]): Promise<void> {
    const { to, client } = this;
    const kind = await client.kindNamed('PersistentVolumeClaim');
    const brought = new Set(to.volumes ? this.stored.volumes.map((v) => v.claim.metadata.name) : []);
    for (const { stored, resource } of all) {
      if (kindOf(resource) !== 'PersistentVolumeClaim' || isUnused(resource) || brought.has(stored.resource.metadata.name)) continue;
      this.goOn();
      const there = this.spaceThere || !this.ctx.trial ? await client.get(kind, to.namespace, resource.metadata.name) : undefined;
      if (!there && !this.ctx.trial) await client.create(kind, to.namespace, resource);
      await this.tell(
        stored.path,
        there ? 'leave' : 'write',
        stored.bytes,
        there || !to.volumes ? '' : 'empty: its volume is not in the point',
      );
    }
  }

  private async start(rest: readonly Prepared[]): Promise<void> {
    const { ctx, client, to } = this;
    ctx.phase('starting');
    await waitUntilUp(client, to.namespace, this.touched, to.patience * 1000, ctx);
    for (const { resource } of rest)
      if (kindOf(resource) === 'Ingress.networking.k8s.io')
        for (const said of await routesAnswer(client, to.namespace, resource.metadata.name))
          ctx.note({ code: 'ROUTE', path: '', message: `${nameOf(resource)}: ${said}` });
  }
}

import type { Cluster } from '@lithodex/kinds';
import type { RestoreContext, RestorePick } from '../connector';
import { SourceError } from '../source-error';
import { ClusterClient } from './cluster-client';
import { until } from './helper-pod';
import { restoreApplication } from './restore-application';
import { resourcesFolder, volumesFolder } from './resource-files';

const goneMs = 120_000;
/** What would reach out of a namespace or be reached from outside, or begins work by itself. */
const leftOut = ['Ingress.networking.k8s.io', 'CronJob.batch', 'Job.batch'];

/** A namespace of a cluster for a while, named for one task: nobody else's name can be like it. */
export class DrillNamespace {
  readonly name: string;

  constructor(
    private readonly server: Cluster,
    taskId: string,
  ) {
    this.name = `drill-${taskId}`;
  }

  private async use<T>(act: (client: ClusterClient) => Promise<T>, stopped?: () => boolean): Promise<T> {
    const client = new ClusterClient(this.server, stopped);
    try {
      return await act(client);
    } finally {
      await client.close();
    }
  }

  /** Brings an application back into it and starts it, cut off from every network; its routes and what begins work by itself stay out. Throws SourceError, STOPPED. */
  async bringBack(ctx: RestoreContext, pick: RestorePick, patience: number): Promise<void> {
    await this.use(async (client) => {
      const own = { metadata: { name: this.name } };
      await client.create(await client.kindNamed('Namespace'), '', { apiVersion: 'v1', kind: 'Namespace', ...own });
      await client.create(await client.kindNamed('NetworkPolicy', 'networking.k8s.io'), this.name, {
        apiVersion: 'networking.k8s.io/v1',
        kind: 'NetworkPolicy',
        metadata: { name: 'cut-off' },
        spec: { podSelector: {}, policyTypes: ['Ingress', 'Egress'], ingress: [], egress: [] },
      });
    }, ctx.stopped);
    const { store, top } = await pick.open();
    const kinds = await store.trees.find(top, resourcesFolder);
    const names = kinds.folder ? (await store.trees.folder(kinds.folder.node)).map((e) => e.name) : [];
    const picks = [...names.filter((name) => !leftOut.includes(name)).map((name) => `${resourcesFolder}/${name}`), volumesFolder];
    const destination = {
      namespace: this.name,
      rewrites: [],
      volumes: true,
      start: true,
      patience,
      exists: 'leave' as const,
      stamp: 'drill',
    };
    await restoreApplication(
      ctx,
      picks.map((path) => ({ ...pick, path })),
      { kind: 'application', server: this.server, destination },
    );
  }

  /** Takes it away with all that is in it, and waits until it is gone; one that is not there is fine. Throws SourceError. */
  async remove(): Promise<void> {
    await this.use(async (client) => {
      const kind = await client.kindNamed('Namespace');
      await client.remove(kind, '', this.name);
      const gone = await until(
        async () => ((await client.get(kind, '', this.name)) ? undefined : true),
        goneMs,
        () => false,
      );
      if (!gone) throw new SourceError('CLUSTER_FAILED', `the namespace ${this.name} is still there`);
    });
  }
}

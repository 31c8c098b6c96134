import type { Cluster } from '@lithodex/kinds';
import type { DrillCheck, DrillResult } from '@lithodex/contract';
import { drillNamespaces, type DrillNamespace } from '@lithodex/connectors';
import type { Drilled, DrillRoom } from './drill-room';

/** A namespace of its own in the cluster that an application is of. */
export class NamespaceRoom implements DrillRoom {
  readonly words = 'a namespace of its own, cut off from every network';

  private made: DrillNamespace | undefined;

  constructor(
    private readonly drilled: Drilled,
    private readonly server: Cluster,
    private readonly patience: number,
  ) {}

  private async place(): Promise<DrillNamespace> {
    const { DrillNamespace } = await drillNamespaces();
    return (this.made ??= new DrillNamespace(this.server, this.drilled.ctx.taskId));
  }

  async clear(): Promise<void> {
    await (await this.place()).remove();
  }

  async bringBack(): Promise<void> {
    const { ctx, pick } = this.drilled;
    await (await this.place()).bringBack(ctx, pick, this.patience);
  }

  looks(): Promise<DrillResult[]> {
    return Promise.resolve([{ what: 'What runs in it starts', found: 'every part says that it is up', passed: true }]);
  }

  look(_check: DrillCheck): Promise<DrillResult | undefined> {
    return Promise.resolve(undefined);
  }

  told(): Record<string, string> {
    return { LITHODEX_DRILL_NAMESPACE: this.made?.name ?? '' };
  }

  remove(): Promise<void> {
    return this.clear();
  }
}

import type { PlatformRef } from '@lithodex/kinds';
import type { MachineSource } from '../machine-source';
import type { PlatformInventory, PlatformMachine, Range, TakenSnapshot } from '../platform-types';
import type { CloudInstance } from './cloud-answers';
import { CloudClient } from './cloud-client';

type Offers = NonNullable<PlatformInventory['cloud']>;

/** The instances of a cloud as machines of a platform: a region is a host, a class of volumes a storage. Every call throws SourceError. */
export class CloudMachines implements MachineSource {
  readonly client: CloudClient;

  constructor(ref: PlatformRef) {
    this.client = new CloudClient(ref);
  }

  close(): void {
    void this.client.close();
  }

  async session(): Promise<{ account: string; rights: string[]; passwordEnds: number | null }> {
    const { client, rights, secretEnds } = await this.client.account();
    return { account: client, rights, passwordEnds: secretEnds };
  }

  async inventory(): Promise<PlatformInventory> {
    const cloud = await this.client.catalog();
    const machines = (await this.client.instances()).map((i) => machineOf(i, cloud.sizes));
    const networks = (isolated: boolean, region: Offers['regions'][number]) =>
      region.networks.filter((n) => !isolated || n.isolated).map((n) => n.name);
    return {
      cloud,
      clusters: cloud.regions.map((r) => ({
        name: r.name,
        location: r.place,
        hosts: [r.name],
        networks: networks(false, r),
        isolated: networks(true, r),
      })),
      storages: cloud.classes.map((c) => {
        const regions = cloud.regions.filter((r) => c.regions.includes(r.name));
        return {
          name: c.name,
          hosts: [...c.regions],
          capacity: regions.reduce((sum, r) => sum + r.quota.bytes, 0),
          used: regions.reduce((sum, r) => sum + r.used.bytes, 0),
        };
      }),
      machines,
    };
  }

  async machine(id: string): Promise<PlatformMachine> {
    const instance = await this.client.instance(id);
    return machineOf(instance, (await this.client.catalog()).sizes);
  }

  /** Who is off is at rest by itself; nothing inside is asked. */
  async takeSnapshot(id: string, name: string, quiesce: boolean): Promise<TakenSnapshot> {
    const { id: snapshot, volumes } = await this.client.takeSnapshot(id, name);
    return { id: snapshot, level: quiesce ? 'application' : 'crash', disks: volumes };
  }

  removeSnapshot(id: string, snapshot: string): Promise<void> {
    return this.client.removeSnapshot(id, snapshot);
  }

  ranges(_machine: string, volume: string, which: { snapshot?: string | undefined; since?: string | undefined }): Promise<Range[]> {
    return this.client.ranges(volume, which);
  }

  read(_machine: string, volume: string, ranges: readonly Range[], snapshot?: string): Promise<Buffer> {
    return this.client.read(volume, ranges, snapshot);
  }
}

function machineOf(instance: CloudInstance, sizes: Offers['sizes']): PlatformMachine {
  const { id, name, region, size, network, groups, address, tags, note, system, firmware, running, volumes, snapshots } = instance;
  const known = sizes.find((s) => s.name === size);
  return {
    id,
    name,
    host: region,
    folder: '/',
    tags,
    template: false,
    running,
    helper: false,
    processors: known?.processors ?? 0,
    memory: known?.memory ?? 0,
    firmware,
    system,
    networks: [network],
    note,
    disks: volumes.map((v) => ({ id: v.id, label: v.label, size: v.size, storage: v.class })),
    snapshots,
    cloud: { size, address, groups },
  };
}

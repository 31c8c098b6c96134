import type { Blocks } from '@lithodex/volumes';
import type { OpenPoint } from '../connector';
import { isSourceError, SourceError } from '../source-error';
import { storedMachine } from './bring-back-machine';
import type { StoredMachine } from './machine-item';
import { disksOf } from './open-disk';
import type { PlatformClient } from './platform-client';
import type { NetworkDisk, PlatformMachine } from './platform-types';

/** Where such a machine is put. */
export interface LivePlace {
  readonly name: string;
  readonly host: string;
  readonly folder: string;
  readonly networks: readonly string[];
}

/** A disk as it is stored, to be shown to the platform. */
export interface LiveDisk {
  readonly label: string;
  readonly blocks: Blocks;
}

/** The machine of a point, with its disks; those that were left out are not among them. */
export async function liveSource(point: OpenPoint): Promise<{ readonly stored: StoredMachine; readonly disks: readonly LiveDisk[] }> {
  const stored = await storedMachine(point.store, point.top);
  const all = await disksOf(point);
  const disks = stored.disks.flatMap(({ label, file }) => {
    const blocks = all.get(file);
    return blocks ? [{ label, blocks }] : [];
  });
  return { stored, disks };
}

/** A machine whose disks lie in the network until they are copied to a storage. Every call throws SourceError. */
export class LiveMachine {
  constructor(
    private readonly client: PlatformClient,
    private readonly place: LivePlace,
    private readonly taskId: string,
    private readonly stored: StoredMachine,
  ) {}

  /** What the platform shows beside it, by which it is told apart. */
  get note(): string {
    return `Runs from a backup (task ${this.taskId}): what it writes is kept with the backup until it is copied`;
  }

  /** Makes the machine and starts it; one that an earlier attempt of the task has made is gone on with. */
  async begin(disks: readonly { readonly label: string; readonly size: number; readonly remote: NetworkDisk }[]): Promise<string> {
    const { id: _, format, cluster, location, level, disks: __, ...settings } = this.stored;
    const { name, host, folder, networks } = this.place;
    const made = { ...settings, name, host, folder, networks, template: false, running: false, note: this.note };
    const machine = await this.make(made, disks);
    try {
      if (!machine.running) await this.client.change(machine.id, { running: true });
    } catch (error) {
      await this.drop(machine.id);
      throw error;
    }
    return machine.id;
  }

  private async make(
    settings: Parameters<PlatformClient['create']>[0],
    disks: Parameters<LiveMachine['begin']>[0],
  ): Promise<PlatformMachine> {
    try {
      return await this.client.create(
        settings,
        disks.map((d) => ({ ...d, storage: '' })),
      );
    } catch (error) {
      if (!isSourceError(error, 'NAME_TAKEN_THERE')) throw error;
      const mine = (await this.client.inventory()).machines.find((m) => m.name === settings.name && m.note === this.note);
      if (!mine) throw error;
      return mine;
    }
  }

  /** Throws MACHINE_GONE. */
  look(id: string): Promise<PlatformMachine> {
    return this.client.machine(id);
  }

  /** Has every disk copied that still lies in the network. */
  async copy(machine: PlatformMachine, storage: string, pace: number | null): Promise<void> {
    for (const { id, elsewhere } of machine.disks) if (elsewhere) await this.client.copyDisk(machine.id, id, { storage, pace });
  }

  /** Lets the machine lie where it was copied to: while it runs, or stopped for a moment. Throws MACHINE_RUNNING where the platform can't move what runs. */
  async cutOver(machine: PlatformMachine, stopped: boolean): Promise<void> {
    const { running } = machine;
    if (stopped && running) await this.client.change(machine.id, { running: false });
    try {
      await this.client.cutOver(machine.id);
    } finally {
      if (stopped && running) await this.client.change(machine.id, { running: true });
    }
    const now = await this.client.machine(machine.id);
    const left = now.disks.find((d) => d.elsewhere);
    if (left) throw new SourceError('PLATFORM_FAILED', `${left.label} still lies in the network`);
    await this.client.change(machine.id, { note: this.stored.note });
  }

  /** Takes the machine away. */
  async drop(id: string): Promise<void> {
    try {
      await this.client.change(id, { running: false });
      await this.client.remove(id);
    } catch (error) {
      if (!isSourceError(error, 'MACHINE_GONE')) throw error;
    }
  }
}

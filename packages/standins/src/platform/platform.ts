import { randomUUID } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import { BlockDisk } from './block-disk';
import type { DiskDescription, InsideAccount, MachineDescription, MachinePlace, PlatformDescription } from './description';
import { PlatformError } from './platform-error';
import { platformFine, type PlatformSwitches } from './switches';

export interface MachineDisk extends DiskDescription {
  readonly id: string;
}

export interface Snapshot {
  readonly id: string;
  readonly name: string;
  readonly takenAt: number;
  /** How quiet the machine was. */
  readonly level: 'crash' | 'application';
}

export interface Machine extends Omit<MachineDescription, 'disks'> {
  readonly id: string;
  readonly createdAt: number;
  readonly disks: readonly MachineDisk[];
  readonly snapshots: readonly Snapshot[];
}

const empty: PlatformDescription = { clusters: [], storages: [], accounts: [] };

/** Clusters, hosts, storages and machines with their disks, kept in a folder. */
export class Platform {
  switches: PlatformSwitches = platformFine;
  private readonly machines = new Map<string, Machine>();
  private readonly disks = new Map<string, BlockDisk>();
  private parts: PlatformDescription = empty;
  /** Accounts inside machines, by machine. Nothing tells them to programs. */
  private readonly inside = new Map<string, readonly InsideAccount[]>();

  constructor(private readonly folder: string) {
    fs.mkdirSync(path.join(folder, 'disks'), { recursive: true });
    if (!fs.existsSync(this.stateFile)) return;
    const state = JSON.parse(fs.readFileSync(this.stateFile, 'utf8')) as {
      parts: PlatformDescription;
      machines: Machine[];
      inside?: [string, InsideAccount[]][];
    };
    this.parts = state.parts;
    for (const [id, accounts] of state.inside ?? []) this.inside.set(id, accounts);
    for (const machine of state.machines) {
      // snapshots do not outlive the platform that took them
      this.machines.set(machine.id, { ...machine, snapshots: [] });
      for (const disk of machine.disks) this.disks.set(disk.id, BlockDisk.open(this.diskFile(disk.id)));
    }
  }

  private get stateFile(): string {
    return path.join(this.folder, 'platform.json');
  }

  private diskFile(id: string): string {
    return path.join(this.folder, 'disks', `${id}.raw`);
  }

  private keep(): void {
    fs.writeFileSync(
      `${this.stateFile}.new`,
      JSON.stringify({ parts: this.parts, machines: [...this.machines.values()], inside: [...this.inside] }),
    );
    fs.renameSync(`${this.stateFile}.new`, this.stateFile);
  }

  get description(): PlatformDescription {
    return this.parts;
  }

  /** Says which clusters, storages and accounts there are; machines stay. */
  describe(parts: PlatformDescription): void {
    this.parts = parts;
    this.keep();
  }

  inventory() {
    return {
      clusters: this.parts.clusters,
      storages: this.parts.storages.map((s) => ({ ...s, used: this.usedOf(s.name) })),
      machines: [...this.machines.values()],
    };
  }

  private usedOf(storage: string): number {
    let used = 0;
    for (const { disks } of this.machines.values())
      for (const disk of disks) if (disk.storage === storage) used += this.disk(disk.id).usedBytes;
    return used;
  }

  machine(id: string): Machine {
    const found = this.machines.get(id);
    if (!found) throw new PlatformError('NOT_FOUND', 'there is no such machine');
    return found;
  }

  named(name: string): Machine {
    const found = [...this.machines.values()].find((m) => m.name === name);
    if (!found) throw new PlatformError('NOT_FOUND', `there is no machine ${name}`);
    return found;
  }

  /** The disk of a machine. */
  diskOf(machineId: string, diskId: string): BlockDisk {
    if (!this.machine(machineId).disks.some((d) => d.id === diskId)) throw new PlatformError('NOT_FOUND', 'the machine has no such disk');
    return this.disk(diskId);
  }

  private disk(id: string): BlockDisk {
    return this.disks.get(id)!;
  }

  /** Throws INVALID, NOT_ON_THIS_HOST for what can't be together. */
  private checkPlace({ host }: MachinePlace, disks: readonly DiskDescription[], networks: readonly string[]): void {
    const cluster = this.parts.clusters.find((c) => c.hosts.includes(host));
    if (!cluster) throw new PlatformError('INVALID', `there is no host ${host}`);
    for (const network of networks)
      if (!cluster.networks.includes(network)) throw new PlatformError('NOT_ON_THIS_HOST', `${host} has no network ${network}`);
    for (const { storage } of disks) {
      const found = this.parts.storages.find((s) => s.name === storage);
      if (!found?.hosts.includes(host)) throw new PlatformError('NOT_ON_THIS_HOST', `${host} sees no storage ${storage}`);
      if (this.switches.full.includes(storage)) throw new PlatformError('NO_ROOM', `${storage} has no room`);
    }
  }

  /** Makes a machine with empty disks. */
  create({ disks, ...rest }: MachineDescription): Machine {
    if ([...this.machines.values()].some((m) => m.name === rest.name))
      throw new PlatformError('NAME_TAKEN', `there is a ${rest.name} already`);
    this.checkPlace(rest, disks, rest.networks);
    const made = disks.map((disk) => ({ ...disk, id: `d-${randomUUID().slice(0, 8)}` }));
    for (const { id, size } of made) this.disks.set(id, BlockDisk.create(this.diskFile(id), size));
    const machine: Machine = { ...rest, id: `m-${randomUUID().slice(0, 8)}`, createdAt: Date.now(), disks: made, snapshots: [] };
    this.machines.set(machine.id, machine);
    this.keep();
    return machine;
  }

  /** Takes over a file as the content of a machine's disk. */
  fill(machineId: string, diskId: string, image: string): void {
    this.diskOf(machineId, diskId).close();
    fs.renameSync(image, this.diskFile(diskId));
    this.disks.set(diskId, BlockDisk.open(this.diskFile(diskId)));
  }

  /** Path of a disk's file, for who looks at it from outside. */
  fileOf(machineId: string, diskId: string): string {
    this.diskOf(machineId, diskId);
    return this.diskFile(diskId);
  }

  remove(id: string): void {
    const machine = this.machine(id);
    if (machine.running) throw new PlatformError('MACHINE_RUNNING', `${machine.name} is running`);
    for (const disk of machine.disks) {
      this.disk(disk.id).remove();
      this.disks.delete(disk.id);
    }
    this.machines.delete(id);
    this.inside.delete(id);
    this.keep();
  }

  /** Changes what is said of a machine: its place, tags, name, note or whether it runs. */
  change(id: string, changes: Partial<Omit<Machine, 'id' | 'disks' | 'snapshots'>>): Machine {
    const machine = { ...this.machine(id), ...changes };
    if ([...this.machines.values()].some((m) => m.id !== id && m.name === machine.name))
      throw new PlatformError('NAME_TAKEN', `there is a ${machine.name} already`);
    this.checkPlace(machine, changes.host === undefined ? [] : machine.disks, machine.networks);
    this.machines.set(id, machine);
    this.keep();
    return machine;
  }

  /** Moves a disk; what was changed since when is not known after that. */
  moveDisk(id: string, diskId: string, storage: string): void {
    const machine = this.machine(id);
    const disks = machine.disks.map((d) => (d.id === diskId ? { ...d, storage } : d));
    this.checkPlace(machine, disks, []);
    this.disk(diskId).forgetChanges();
    this.machines.set(id, { ...machine, disks });
    this.keep();
  }

  /** Says which accounts the system inside a machine knows. */
  setInside(id: string, accounts: readonly InsideAccount[]): void {
    this.machine(id);
    this.inside.set(id, accounts);
    this.keep();
  }

  /** Signs in to the system inside a machine. Throws MACHINE_OFF, INSIDE_REFUSED. */
  signInInside(id: string, { name, password }: InsideAccount): { system: string } {
    const machine = this.machine(id);
    if (!machine.running) throw new PlatformError('MACHINE_OFF', `${machine.name} is off`);
    if (!this.inside.get(id)?.some((a) => a.name === name && a.password === password))
      throw new PlatformError('INSIDE_REFUSED', `${machine.name} does not let ${name} in`);
    return { system: machine.system };
  }

  /**
   * Freezes all disks at one instant; with `quiesce` file systems and programs are brought to rest first: by the helper inside, or by commands that run under an account inside.
   */
  takeSnapshot(
    id: string,
    name: string,
    quiesce: boolean,
    inside?: InsideAccount,
  ): Snapshot & { disks: { id: string; size: number; changeId: string }[] } {
    const machine = this.machine(id);
    if (this.switches.snapshotFails.includes(machine.name))
      throw new PlatformError('SNAPSHOT_FAILED', `the snapshot of ${machine.name} could not be completed`);
    const rests = quiesce && machine.running;
    if (rests && !machine.helper) {
      if (!inside) throw new PlatformError('QUIESCE_FAILED', `there is no helper inside ${machine.name}`);
      this.signInInside(id, inside);
    }
    if (rests && this.switches.quiesceFails.includes(machine.name))
      throw new PlatformError('QUIESCE_FAILED', `the programs inside ${machine.name} did not come to rest in time`);
    const level = quiesce ? 'application' : 'crash';
    const snapshot: Snapshot = { id: `s-${randomUUID().slice(0, 8)}`, name, takenAt: Date.now(), level };
    const disks = machine.disks.map((d) => ({ id: d.id, size: d.size, changeId: this.disk(d.id).takeSnapshot(snapshot.id) }));
    this.machines.set(id, { ...machine, snapshots: [...machine.snapshots, snapshot] });
    this.keep();
    return { ...snapshot, disks };
  }

  removeSnapshot(id: string, snapshotId: string): void {
    const machine = this.machine(id);
    for (const disk of machine.disks) this.disk(disk.id).dropSnapshot(snapshotId);
    this.machines.set(id, { ...machine, snapshots: machine.snapshots.filter((s) => s.id !== snapshotId) });
    this.keep();
  }

  /** Throws MACHINE_RUNNING unless the disks of a machine may be written from outside. */
  mayWrite(id: string, diskId: string): BlockDisk {
    const machine = this.machine(id);
    if (machine.running) throw new PlatformError('MACHINE_RUNNING', `${machine.name} is running`);
    const { storage } = machine.disks.find((d) => d.id === diskId)!;
    if (this.switches.full.includes(storage)) throw new PlatformError('NO_ROOM', `${storage} has no room`);
    return this.diskOf(id, diskId);
  }

  close(): void {
    for (const disk of this.disks.values()) disk.close();
  }
}

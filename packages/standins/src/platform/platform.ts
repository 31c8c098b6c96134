import { randomUUID } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import { BlockDisk, blockBytes } from './block-disk';
import type { DiskDescription, InsideAccount, MachineDescription, MachinePlace, PlatformDescription } from './description';
import type { NetworkDisk } from './nbd-client';
import { PlatformError } from './platform-error';
import { RemoteDisk, type DiskMove } from './remote-disk';
import { platformFine, type PlatformSwitches } from './switches';

export interface MachineDisk extends DiskDescription {
  readonly id: string;
  /** Where it lies in the network; absent where it lies on its storage. */
  readonly remote?: NetworkDisk;
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

/** What names of machines may be. */
const naming = { most: 80, forbidden: '/\\%' };
/** So long the disks of a machine may take to answer when it starts. */
const startMs = 20_000;

const empty: PlatformDescription = { clusters: [], storages: [], accounts: [] };

/** Clusters, hosts, storages and machines with their disks, kept in a folder. */
export class Platform {
  switches: PlatformSwitches = platformFine;
  private readonly machines = new Map<string, Machine>();
  private readonly disks = new Map<string, BlockDisk>();
  private readonly remotes = new Map<string, RemoteDisk>();
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
      for (const disk of machine.disks)
        if (disk.remote) this.join(disk, disk.remote);
        else this.disks.set(disk.id, BlockDisk.open(this.diskFile(disk.id)));
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

  /** A disk in the network, of which nothing is here yet. */
  private join({ id, size }: MachineDisk, at: NetworkDisk): void {
    fs.rmSync(this.diskFile(id), { force: true });
    const local = BlockDisk.create(this.diskFile(id), size);
    this.disks.set(id, local);
    this.remotes.set(id, new RemoteDisk(at, local));
  }

  /** The disk of a machine that lies in the network; undefined for one on a storage. */
  remoteOf(id: string): RemoteDisk | undefined {
    return this.remotes.get(id);
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
      naming,
      clusters: this.parts.clusters,
      storages: this.parts.storages.map((s) => ({ ...s, used: this.usedOf(s.name) })),
      machines: [...this.machines.values()].map((m) => this.shown(m)),
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

  private checkName(name: string): void {
    const characters = Array.from(name);
    if (characters.length > naming.most || characters.some((c) => naming.forbidden.includes(c)))
      throw new PlatformError('INVALID', `no machine may be called ${name.slice(0, 100)}`);
  }

  /** Throws INVALID, NOT_ON_THIS_HOST for what can't be together. */
  private checkPlace({ host }: MachinePlace, disks: readonly DiskDescription[], networks: readonly string[]): void {
    const cluster = this.parts.clusters.find((c) => c.hosts.includes(host));
    if (!cluster) throw new PlatformError('INVALID', `there is no host ${host}`);
    for (const network of networks)
      if (!cluster.networks.includes(network)) throw new PlatformError('NOT_ON_THIS_HOST', `${host} has no network ${network}`);
    for (const { storage } of disks) {
      if (storage === '') continue;
      const found = this.parts.storages.find((s) => s.name === storage);
      if (!found?.hosts.includes(host)) throw new PlatformError('NOT_ON_THIS_HOST', `${host} sees no storage ${storage}`);
      if (this.switches.full.includes(storage)) throw new PlatformError('NO_ROOM', `${storage} has no room`);
    }
  }

  /** Makes a machine with empty disks, or with such that lie in the network. */
  create({ disks, ...rest }: Omit<MachineDescription, 'disks'> & { readonly disks: readonly Omit<MachineDisk, 'id'>[] }): Machine {
    if ([...this.machines.values()].some((m) => m.name === rest.name))
      throw new PlatformError('NAME_TAKEN', `there is a ${rest.name} already`);
    this.checkName(rest.name);
    this.checkPlace(rest, disks, rest.networks);
    const made = disks.map((disk) => ({ ...disk, id: `d-${randomUUID().slice(0, 8)}` }));
    for (const disk of made) {
      if (disk.remote) this.join(disk, disk.remote);
      else if (disk.storage === '') throw new PlatformError('INVALID', 'a disk needs a storage');
      else this.disks.set(disk.id, BlockDisk.create(this.diskFile(disk.id), disk.size));
    }
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

  /** Where a disk lies, for programs that see its storage. Throws NOT_FOUND where they are not told. */
  placeOf(machineId: string, diskId: string): { folder: string; file: string } {
    const disk = this.machine(machineId).disks.find((d) => d.id === diskId);
    const storage = this.parts.storages.find((s) => s.name === disk?.storage);
    if (!disk || !storage?.straight) throw new PlatformError('NOT_FOUND', 'where it lies is not told');
    return { folder: path.dirname(path.resolve(this.diskFile(diskId))), file: path.basename(this.diskFile(diskId)) };
  }

  remove(id: string): void {
    const machine = this.machine(id);
    if (machine.running) throw new PlatformError('MACHINE_RUNNING', `${machine.name} is running`);
    for (const disk of machine.disks) {
      this.leave(disk.id);
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
    this.checkName(machine.name);
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

  private leave(diskId: string): void {
    this.remotes.get(diskId)?.close();
    this.remotes.delete(diskId);
  }

  /** Starts a machine if its disks answer. Throws DISK_AWAY. */
  async start(id: string): Promise<void> {
    for (const disk of this.machine(id).disks) {
      const remote = this.remotes.get(disk.id);
      await remote?.ready(startMs);
      await remote?.have(0, Math.min(disk.size, blockBytes));
    }
    this.change(id, { running: true });
  }

  /** Begins to copy a disk that lies in the network to a storage, while its machine goes on. */
  copyDisk(id: string, diskId: string, move: DiskMove): void {
    const machine = this.machine(id);
    this.diskOf(id, diskId);
    this.checkPlace(machine, [{ label: '', size: 0, storage: move.storage }], []);
    const remote = this.remotes.get(diskId);
    if (!remote) throw new PlatformError('INVALID', 'the disk lies on a storage already');
    remote.begin(move);
  }

  /** Lets the disks of a machine lie where they were copied to, from now on. Throws NOT_COPIED, and MACHINE_RUNNING where that is not possible while it runs. */
  async cutOver(id: string): Promise<void> {
    const machine = this.machine(id);
    if (machine.running && !this.switches.movesWhileRunning) throw new PlatformError('MACHINE_RUNNING', `${machine.name} is running`);
    const open = machine.disks.filter((d) => this.remotes.has(d.id));
    for (const { id: diskId, label } of open) {
      const remote = this.remotes.get(diskId)!;
      if (!remote.move || !remote.whole) throw new PlatformError('NOT_COPIED', `${label} is not copied yet`);
    }
    for (const { id: diskId } of open) await this.remotes.get(diskId)!.flush();
    const disks = machine.disks.map(({ remote, ...disk }) => ({
      ...disk,
      storage: this.remotes.get(disk.id)?.move?.storage ?? disk.storage,
    }));
    for (const { id: diskId } of open) this.leave(diskId);
    this.machines.set(id, { ...this.machine(id), disks });
    this.keep();
  }

  /** What is said of a machine to programs: where its disks lie, and not what opens them. */
  shown(machine: Machine) {
    const disks = machine.disks.map(({ remote: _, ...disk }) => {
      const remote = this.remotes.get(disk.id);
      return remote ? { ...disk, elsewhere: { storage: remote.move?.storage ?? null, ...remote.copied, whole: remote.whole } } : disk;
    });
    // only the helper inside knows, and only while it runs
    const services = machine.running && machine.helper ? (machine.services ?? []) : [];
    return { ...machine, services, disks };
  }

  /** What a machine writes on its disk. */
  async write(diskId: string, offset: number, data: Uint8Array): Promise<void> {
    const remote = this.remotes.get(diskId);
    if (remote) await remote.write(offset, data);
    else this.disk(diskId).write(offset, data);
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
    if (this.remotes.has(diskId)) throw new PlatformError('INVALID', 'the disk lies in the network');
    return this.diskOf(id, diskId);
  }

  close(): void {
    for (const remote of this.remotes.values()) remote.close();
    for (const disk of this.disks.values()) disk.close();
  }
}

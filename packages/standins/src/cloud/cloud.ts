import { randomUUID } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import { CloudError } from './cloud-error';
import { cloudFine, type CloudDescription, type CloudSwitches, type Instance, type Quota, type Volume } from './description';
import { Imports } from './imports';
import { Volumes } from './volumes';

interface Kept {
  readonly parts: CloudDescription;
  readonly instances: readonly Instance[];
  readonly volumes: readonly Volume[];
}

const empty: CloudDescription = { currency: 'EUR', addressPerMonth: 0, regions: [], sizes: [], classes: [], clients: [] };

/** What is asked for a new instance. */
export type NewInstance = Omit<Instance, 'id' | 'address' | 'snapshots'> & { readonly publicAddress?: boolean };

/** Regions with instances and volumes, kept in a folder. */
export class Cloud {
  switches: CloudSwitches = cloudFine;
  readonly volumes: Volumes;
  readonly imports: Imports;
  private parts: CloudDescription = empty;
  private readonly instances = new Map<string, Instance>();

  constructor(private readonly folder: string) {
    fs.mkdirSync(folder, { recursive: true });
    const kept = fs.existsSync(this.stateFile) ? (JSON.parse(fs.readFileSync(this.stateFile, 'utf8')) as Kept) : undefined;
    this.parts = kept?.parts ?? empty;
    // snapshots do not outlive the process that took them
    for (const instance of kept?.instances ?? []) this.instances.set(instance.id, { ...instance, snapshots: [] });
    this.volumes = new Volumes(path.join(folder, 'volumes'), kept?.volumes ?? [], () => this.keep());
    this.imports = new Imports(path.join(folder, 'staged'), this.volumes, () => this.switches);
  }

  private get stateFile(): string {
    return path.join(this.folder, 'cloud.json');
  }

  private keep(): void {
    const kept: Kept = { parts: this.parts, instances: [...this.instances.values()], volumes: this.volumes.all() };
    fs.writeFileSync(`${this.stateFile}.new`, JSON.stringify(kept));
    fs.renameSync(`${this.stateFile}.new`, this.stateFile);
  }

  get description(): CloudDescription {
    return this.parts;
  }

  describe(parts: CloudDescription): void {
    this.parts = parts;
    this.keep();
  }

  /** All that can be had, and how much of what one may have is taken. */
  catalog() {
    const { clients: _, regions, ...rest } = this.parts;
    return { ...rest, regions: regions.map((r) => ({ ...r, used: this.used(r.name) })) };
  }

  private used(region: string): Quota {
    const here = this.all().filter((i) => i.region === region);
    return {
      instances: here.length,
      processors: here.reduce((sum, i) => sum + (this.parts.sizes.find((s) => s.name === i.size)?.processors ?? 0), 0),
      bytes: this.volumes
        .all()
        .filter((v) => v.region === region)
        .reduce((sum, v) => sum + v.size, 0),
    };
  }

  private region(name: string) {
    const found = this.parts.regions.find((r) => r.name === name);
    if (!found) throw new CloudError('INVALID', `there is no region ${name.slice(0, 100)}`);
    return found;
  }

  all(): Instance[] {
    return [...this.instances.values()];
  }

  one(id: string): Instance {
    const found = this.instances.get(id);
    if (!found) throw new CloudError('NOT_FOUND', 'there is no such instance');
    return found;
  }

  named(name: string): Instance {
    const found = this.all().find((i) => i.name === name);
    if (!found) throw new CloudError('NOT_FOUND', `there is no instance ${name}`);
    return found;
  }

  /** An instance with its volumes, as programs are told of it. */
  shown(instance: Instance) {
    return { ...instance, volumes: instance.volumes.map((id) => this.volumes.one(id)) };
  }

  makeVolume(asked: Pick<Volume, 'region' | 'class' | 'label' | 'size' | 'tags'>): Volume {
    const { quota } = this.region(asked.region);
    const found = this.parts.classes.find((c) => c.name === asked.class);
    if (!found?.regions.includes(asked.region)) throw new CloudError('INVALID', `${asked.region} has no class ${asked.class}`);
    if (this.used(asked.region).bytes + asked.size > quota.bytes)
      throw new CloudError('OVER_QUOTA', `the volumes of ${asked.region} may not take more`);
    const { region, label, size, tags } = asked;
    return this.volumes.make({ region, class: asked.class, label, size, tags });
  }

  /** Makes an instance of volumes that are there. */
  make({ publicAddress = false, ...asked }: NewInstance): Instance {
    const { quota, networks, groups } = this.region(asked.region);
    const size = this.parts.sizes.find((s) => s.name === asked.size);
    if (!size) throw new CloudError('INVALID', `there is no size ${asked.size}`);
    if (!networks.some((n) => n.name === asked.network)) throw new CloudError('INVALID', `${asked.region} has no network ${asked.network}`);
    for (const group of asked.groups) if (!groups.includes(group)) throw new CloudError('INVALID', `${asked.region} has no group ${group}`);
    if (this.all().some((i) => i.name === asked.name)) throw new CloudError('NAME_TAKEN', `there is a ${asked.name} already`);
    const used = this.used(asked.region);
    if (used.instances + 1 > quota.instances || used.processors + size.processors > quota.processors)
      throw new CloudError('OVER_QUOTA', `${asked.region} may not have more instances`);
    for (const id of asked.volumes) {
      const volume = this.volumes.one(id);
      if (volume.instance !== null) throw new CloudError('IN_USE', 'an instance has the volume');
      if (volume.region !== asked.region) throw new CloudError('INVALID', 'the volume lies in another region');
    }
    const address = publicAddress ? `203.0.113.${1 + this.instances.size}` : null;
    const instance: Instance = { ...asked, id: `n-${randomUUID().slice(0, 8)}`, address, snapshots: [] };
    this.instances.set(instance.id, instance);
    for (const id of asked.volumes) this.volumes.change(id, { instance: instance.id });
    this.keep();
    return instance;
  }

  change(id: string, changes: Partial<Pick<Instance, 'name' | 'tags' | 'note' | 'running'>>): Instance {
    if (changes.name !== undefined && this.all().some((i) => i.id !== id && i.name === changes.name))
      throw new CloudError('NAME_TAKEN', `there is a ${changes.name} already`);
    const instance = { ...this.one(id), ...changes };
    this.instances.set(id, instance);
    this.keep();
    return instance;
  }

  /** Takes an instance away with its volumes. Throws MACHINE_RUNNING. */
  remove(id: string): void {
    const instance = this.one(id);
    if (instance.running) throw new CloudError('MACHINE_RUNNING', `${instance.name} is running`);
    this.instances.delete(id);
    for (const volume of instance.volumes) {
      this.volumes.change(volume, { instance: null });
      this.volumes.remove(volume);
    }
    this.keep();
  }

  makeGroup(region: string, name: string): void {
    const { groups } = this.region(region);
    if (groups.includes(name)) return;
    const regions = this.parts.regions.map((r) => (r.name === region ? { ...r, groups: [...groups, name] } : r));
    this.describe({ ...this.parts, regions });
  }

  /** Freezes all volumes of an instance at one instant, as after a loss of power. */
  takeSnapshot(id: string, name: string) {
    const instance = this.one(id);
    const snapshot = { id: `s-${randomUUID().slice(0, 8)}`, name };
    const volumes = instance.volumes.map((v) => {
      const disk = this.volumes.disk(v);
      return { id: v, size: disk.size, changeId: disk.takeSnapshot(snapshot.id) };
    });
    this.instances.set(id, { ...instance, snapshots: [...instance.snapshots, snapshot] });
    this.keep();
    return { ...snapshot, volumes };
  }

  removeSnapshot(id: string, snapshot: string): void {
    const instance = this.one(id);
    for (const volume of instance.volumes) this.volumes.disk(volume).dropSnapshot(snapshot);
    this.instances.set(id, { ...instance, snapshots: instance.snapshots.filter((s) => s.id !== snapshot) });
    this.keep();
  }

  close(): void {
    this.volumes.close();
  }
}

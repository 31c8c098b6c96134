import type { AnswerTo, Inventory, PlatformRef, PlatformTest, ShareRef, ShareTest } from '@lithodex/contract';
import {
  CloudMachines,
  diskFiles,
  disksFolder,
  machineSource,
  PlatformClient,
  platformClient,
  SourceError,
  testPlatform,
  testShare,
  type PlatformMachine,
  type StorageSnapshot,
} from '@lithodex/connectors';

/** Snapshots of storages that are told of a platform at most. */
const mostSnapshots = 2000;

/** What a test of the connection says; a refusal is an answer too. */
export async function testOf(ref: PlatformRef): Promise<PlatformTest> {
  const source = ref.family === 'cloud' ? new CloudMachines(ref) : new PlatformClient(ref);
  const nothing = { account: '', passwordEnds: null, machines: 0, needs: [] };
  try {
    const { needs, ...answer } = await testPlatform(source, ref.family);
    const missing = needs.filter((n) => n.missing);
    const words = missing.map((n) => n.right.toLowerCase()).join(', ');
    const message = missing.length ? `The account may not: ${words}.` : 'The account may do all that is needed.';
    return { ok: true, message, needs: [...needs], ...answer };
  } catch (error) {
    if (!(error instanceof SourceError)) throw error;
    return { ok: false, message: error.message, ...nothing };
  } finally {
    source.close();
  }
}

export async function inventoryOf(ref: PlatformRef): Promise<Inventory> {
  const { clusters, storages, machines, naming, snapshots = [], cloud } = await machineSource(ref).inventory();
  const places = new Map(clusters.flatMap((c) => c.hosts.map((host) => [host, c])));
  return {
    cloud: cloud ?? null,
    clusters: clusters.map(({ name, location, hosts, networks, isolated = [] }) => ({
      name,
      location,
      hosts: [...hosts],
      networks: [...networks],
      isolated: [...isolated],
    })),
    snapshots: newestOf(snapshots).map(({ id, storage, name, takenAt, machines: held }) => ({
      id,
      storage,
      name,
      takenAt,
      machines: held.map((m) => inSnapshot(m, storage, places.get(m.host))),
    })),
    naming: naming ?? { most: 1000, forbidden: '' },
    storages: storages.map(({ name, capacity, used, hosts }) => ({ name, capacity, used, hosts: [...hosts] })),
    machines: machines.map((m) => ({
      id: m.id,
      name: m.name,
      tags: [...m.tags],
      cluster: places.get(m.host)?.name ?? '',
      location: places.get(m.host)?.location ?? '',
      host: m.host,
      folder: m.folder,
      networks: [...m.networks],
      template: m.template,
      running: m.running,
      helper: m.helper,
      system: m.system,
      services: [...(m.services ?? [])],
      processors: m.processors,
      memory: m.memory,
      disks: m.disks.map(({ id, label, size, storage }) => ({ id, label, size, storage })),
      cloud: m.cloud ?? null,
    })),
  };
}

/** The newest snapshots: no more than these are told. */
function newestOf(snapshots: readonly StorageSnapshot[]): StorageSnapshot[] {
  return [...snapshots].sort((a, b) => b.takenAt - a.takenAt).slice(0, mostSnapshots);
}

/** What a point of a machine in a snapshot of a storage says of it. */
function inSnapshot(
  machine: Omit<PlatformMachine, 'snapshots'>,
  storage: string,
  cluster: { readonly name: string; readonly location: string } | undefined,
): Inventory['snapshots'][number]['machines'][number] {
  const { id, name, host, folder, networks, tags, disks } = machine;
  const here = disks.filter((d) => d.storage === storage);
  const files = diskFiles(here);
  const stored = here.map((d, i) => ({ id: d.id, label: d.label, size: d.size, storage, file: `${disksFolder}/${files[i]!}` }));
  const others = disks
    .filter((d) => d.storage !== storage)
    .map((d) => ({ id: d.id, label: d.label, size: d.size, storage: d.storage, file: '' }));
  const place = { cluster: cluster?.name ?? '', location: cluster?.location ?? '', host, folder, networks: [...networks], tags: [...tags] };
  return {
    id,
    bytes: here.reduce((sum, d) => sum + d.size, 0),
    machine: { level: 'crash', name, ...place, disks: [...stored, ...others] },
  };
}

/** Has storages keep all their disks, one after the other. */
export async function takeSnapshots(ref: PlatformRef, storages: readonly string[], name: string): Promise<AnswerTo<'takeSnapshots'>> {
  const taken: { storage: string; id: string }[] = [];
  for (const storage of storages) taken.push({ storage, id: (await platformClient(ref).takeStorageSnapshot(storage, name)).id });
  return { taken };
}

/** Signs in to a share and writes there for a moment. */
export async function shareTestOf(share: ShareRef): Promise<ShareTest> {
  try {
    await testShare(share);
    return { ok: true, message: 'It lets us in and lets us write.' };
  } catch (error) {
    if (!(error instanceof SourceError)) throw error;
    return { ok: false, message: error.message };
  }
}

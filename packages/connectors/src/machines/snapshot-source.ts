import { SourceError } from '../source-error';
import type { MachineCaptureOptions } from './capture-machine';
import type { PlatformClient } from './platform-client';
import type { PlatformMachine, SnapshotAt, StorageSnapshot } from './platform-types';

/** A snapshot that a storage keeps. Throws SourceError where it has gone. */
export async function storageSnapshot(client: Pick<PlatformClient, 'inventory'>, at: SnapshotAt): Promise<StorageSnapshot> {
  const { snapshots = [] } = await client.inventory();
  const found = snapshots.find((s) => s.id === at.id && s.storage === at.storage);
  if (!found) throw new SourceError('SNAPSHOT_GONE', `${at.storage} does not keep it any more`);
  return found;
}

/** A machine as it is in a snapshot of a storage: with the disks that lie there. Throws SourceError. */
export async function machineIn(client: Pick<PlatformClient, 'inventory'>, at: SnapshotAt, id: string): Promise<PlatformMachine> {
  const { machines } = await storageSnapshot(client, at);
  const machine = machines.find((m) => m.id === id);
  if (!machine) throw new SourceError('SNAPSHOT_GONE', 'the snapshot holds nothing of the machine');
  return { ...machine, disks: machine.disks.filter((d) => d.storage === at.storage), snapshots: [] };
}

/** A snapshot of a storage in the place of a machine that is frozen for its backup: it was frozen long ago. */
export function snapshotSource(client: PlatformClient, at: SnapshotAt): MachineCaptureOptions['client'] {
  return {
    machine: (id) => machineIn(client, at, id),
    async takeSnapshot(id) {
      const { disks } = await machineIn(client, at, id);
      // what was written on the machine since then is nothing the platform can tell
      return { id: at.id, level: 'crash', disks: disks.map((d) => ({ id: d.id, size: d.size, changeId: '' })) };
    },
    removeSnapshot: () => Promise.resolve(),
    ranges: (_machine, disk) => client.snapshotRanges(at, disk),
    read: (_machine, disk, ranges) => client.readSnapshot(at, disk, ranges),
  };
}

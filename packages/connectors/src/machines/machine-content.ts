import type { BlockChanges, KindContent, Root } from '@lithodex/engine';
import type { MachinePoint } from '@lithodex/kinds';
import type { ChangeIds } from './capture-machine';
import type { StoredMachine } from './machine-item';

const [kind, version] = ['machine', 1];

/** What the root of a point of a machine keeps of it: where it was, how quiet, and the ids that changes since are asked for by. */
export function machineContent(stored: StoredMachine, changeIds: ChangeIds, changes: BlockChanges): KindContent {
  const { name, cluster, location, host, folder, networks, tags, level } = stored;
  const disks = stored.disks.map(({ id, label, size, storage, file }) => ({ id, label, size, storage, file }));
  const facts: MachinePoint = { level, name, cluster, location, host, folder, networks: [...networks], tags: [...tags], disks };
  return { kind, version, facts, state: { changeIds }, changes };
}

/** What a point says of the machine it is of; null for one of another kind. */
export function machinePoint({ content }: Pick<Root, 'content'>): MachinePoint | null {
  return content.kind === kind ? (content.facts as MachinePoint) : null;
}

/** Ids that changes since a point are asked for by, by id of the disk. */
export function changeIdsOf({ content }: Pick<Root, 'content'>): ChangeIds {
  return content.kind === kind ? (content.state as { readonly changeIds: ChangeIds }).changeIds : {};
}

import type { PlatformFamily } from '@lithodex/kinds';
import type { MachineSource } from './machine-source';

interface NeededRight {
  readonly right: string;
  readonly name: string;
  readonly neededFor: string;
}

const onHosts: readonly NeededRight[] = [
  { right: 'inventory.read', name: 'Read the inventory', neededFor: 'to know which machines there are' },
  { right: 'snapshot.manage', name: 'Take and remove snapshots', neededFor: 'so that a machine can be read while it works' },
  { right: 'disk.read', name: 'Read disks', neededFor: 'to back up' },
  { right: 'guest.quiesce', name: 'Bring machines to rest', neededFor: 'so that programs inside are backed up in order' },
  { right: 'guest.files', name: 'Read and write files inside machines', neededFor: 'to put single files back into a machine that runs' },
  { right: 'disk.write', name: 'Write disks', neededFor: 'to restore' },
  { right: 'machine.create', name: 'Make and change machines', neededFor: 'to restore beside or elsewhere' },
  { right: 'machine.remove', name: 'Remove machines', neededFor: 'to tidy up a restore that was interrupted' },
  { right: 'machine.power', name: 'Start and stop machines', neededFor: 'to restore over a running machine, and to start it after' },
];

const inCloud: readonly NeededRight[] = [
  { right: 'read', name: 'Read what is there', neededFor: 'to know which machines there are and what can be had' },
  { right: 'snapshot', name: 'Take, read and remove snapshots', neededFor: 'to back up' },
  { right: 'staging', name: 'Stage objects', neededFor: 'to send disks there' },
  { right: 'import', name: 'Import images', neededFor: 'to make volumes of disks that were sent' },
  { right: 'create', name: 'Make and change instances and volumes', neededFor: 'to restore' },
  { right: 'groups', name: 'Make groups', neededFor: 'to restore into a group that is not there yet' },
  { right: 'remove', name: 'Remove instances and volumes', neededFor: 'to tidy up a restore that was interrupted' },
  { right: 'power', name: 'Start and stop instances', neededFor: 'to start what was restored' },
];

/** What the account must be allowed to, and what for; the first is to see what is there at all. */
export const neededRights: Readonly<Record<PlatformFamily, readonly NeededRight[]>> = { hosts: onHosts, cloud: inCloud };

export interface PlatformTest {
  readonly account: string;
  /** ms; null where it does not end. */
  readonly passwordEnds: number | null;
  readonly machines: number;
  readonly needs: readonly { readonly right: string; readonly neededFor: string; readonly missing: boolean }[];
}

/** Signs in and looks whether the account may do all that is needed. Throws SourceError when it can't sign in or see anything. */
export async function testPlatform(source: MachineSource, family: PlatformFamily): Promise<PlatformTest> {
  const needed = neededRights[family];
  const { account, rights, passwordEnds } = await source.session();
  const machines = rights.includes(needed[0]!.right) ? (await source.inventory()).machines.length : 0;
  const needs = needed.map(({ right, name, neededFor }) => ({ right: name, neededFor, missing: !rights.includes(right) }));
  return { account, passwordEnds, machines, needs };
}

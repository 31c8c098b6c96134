import type { PlatformClient } from './platform-client';

/** What the account must be allowed to, and what for. */
export const neededRights: readonly { readonly right: string; readonly name: string; readonly neededFor: string }[] = [
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

export interface PlatformTest {
  readonly account: string;
  /** ms; null where it does not end. */
  readonly passwordEnds: number | null;
  readonly machines: number;
  readonly needs: readonly { readonly right: string; readonly neededFor: string; readonly missing: boolean }[];
}

/** Signs in and looks whether the account may do all that is needed. Throws SourceError when it can't sign in or see anything. */
export async function testPlatform(client: PlatformClient): Promise<PlatformTest> {
  const { account, rights, passwordEnds } = await client.session();
  const machines = rights.includes('inventory.read') ? (await client.inventory()).machines.length : 0;
  const needs = neededRights.map(({ right, name, neededFor }) => ({ right: name, neededFor, missing: !rights.includes(right) }));
  return { account, passwordEnds, machines, needs };
}

import { execFileSync } from 'node:child_process';
import fs from 'node:fs';
import { crc32 } from 'node:zlib';
import type { BodyInput } from '@lithodex/contract';
import { buildMachine, fileSystemStart, platformRights, PlatformService, type MachineDescription } from '@lithodex/standins';

const MiB = 1 << 20;
export const keeper = { name: 'keeper', password: 'gulls over the mole', passwordEnds: null, certificate: null, rights: platformRights };

/** Two clusters, as a platform has them before there are machines. */
export async function startPlatform(
  folder: string,
): Promise<{ service: PlatformService; endpoint: string; body: BodyInput<'addPlatform'> }> {
  const service = new PlatformService({ folder });
  const endpoint = await service.start();
  service.platform.describe({
    clusters: [
      {
        name: 'harbour',
        location: 'Harbour office',
        hosts: ['mole-1', 'mole-2'],
        networks: ['quay', 'office', 'proof'],
        isolated: ['proof'],
      },
      { name: 'lighthouse', location: 'Lighthouse station', hosts: ['rock-1'], networks: ['rock'] },
    ],
    storages: [
      { name: 'fast', capacity: 1e12, hosts: ['mole-1', 'mole-2'] },
      { name: 'cellar', capacity: 1e12, hosts: ['rock-1'] },
    ],
    accounts: [keeper],
  });
  service.signIn.setAccounts([keeper]);
  const opener = { by: 'password' as const, account: keeper.name, password: keeper.password };
  return { service, endpoint, body: { name: 'Harbour platform', endpoint, opener } };
}

export function machineOf(name: string, more: Partial<MachineDescription> = {}): MachineDescription {
  return {
    name,
    host: 'mole-1',
    folder: '/Harbour/Gates',
    tags: [],
    template: false,
    running: true,
    helper: true,
    processors: 2,
    memory: 2048,
    firmware: 'efi',
    system: 'Linux',
    networks: ['quay'],
    note: '',
    disks: [{ label: 'system', size: 128 * MiB, storage: 'fast' }],
    ...more,
  };
}

/** A machine whose disk holds a file system with a log. */
export function buildLogger(service: PlatformService, name: string, more: Partial<MachineDescription> = {}) {
  const files = [
    { path: '/etc/hostname', content: Buffer.from(`${name}\n`) },
    { path: '/var/log/gate.log', content: Buffer.from(`${name} opened\n`.repeat(2000)) },
  ];
  return buildMachine(service.platform, machineOf(name, more), { system: files, data: files });
}

/** Sums of the disks of a machine, each of which must be sound: its partition table and its file system. */
export function soundDisks(service: PlatformService, name: string): string[] {
  const machine = service.platform.named(name);
  return machine.disks.map((disk, i) => {
    const image = service.platform.fileOf(machine.id, disk.id);
    if (!execFileSync('sfdisk', ['-V', image], { encoding: 'utf8' }).includes('No errors'))
      throw new Error('the partition table is not sound');
    execFileSync('e2fsck', ['-fn', `${image}?offset=${fileSystemStart(i === 0)}`], { stdio: 'pipe' });
    return crc32(fs.readFileSync(image)).toString(16);
  });
}

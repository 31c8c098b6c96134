import { crc32 } from 'node:zlib';
import fs from 'node:fs';
import type { BodyInput } from '@lithodex/contract';
import { cloudRights, CloudService, type CloudDescription } from '@lithodex/standins';

const GB = 1e9;
export const skyClient = { id: 'harbour', secret: 'clouds over the fjord', secretEnds: null, rights: cloudRights };

export const skyfjord: CloudDescription = {
  currency: 'EUR',
  addressPerMonth: 3,
  regions: [
    {
      name: 'fjord-north',
      place: 'North fjord',
      networks: [
        { name: 'shore', isolated: false },
        { name: 'island', isolated: true },
      ],
      groups: ['inner'],
      quota: { instances: 5, processors: 16, bytes: 100 * GB },
    },
    {
      name: 'fjord-south',
      place: 'Harbour office',
      networks: [{ name: 'beach', isolated: false }],
      groups: [],
      quota: { instances: 1, processors: 2, bytes: 1 * GB },
    },
  ],
  sizes: [
    { name: 'm4', processors: 4, memory: 8192, perHour: 0.08 },
    { name: 's1', processors: 1, memory: 1024, perHour: 0.01 },
    { name: 'm2', processors: 2, memory: 4096, perHour: 0.04 },
  ],
  classes: [
    { name: 'usual', perGBMonth: 0.05, regions: ['fjord-north', 'fjord-south'] },
    { name: 'quick', perGBMonth: 0.12, regions: ['fjord-north'] },
  ],
  clients: [skyClient],
};

/** A cloud with two regions and nothing in them. */
export async function startCloud(folder: string): Promise<{ service: CloudService; body: BodyInput<'addPlatform'> }> {
  const service = new CloudService({ folder });
  const endpoint = await service.start();
  service.cloud.describe(skyfjord);
  const opener = { by: 'password' as const, account: skyClient.id, password: skyClient.secret };
  return { service, body: { name: 'Skyfjord', endpoint, opener, family: 'cloud' } };
}

/** Sums of the volumes of an instance, in its order. */
export function volumeSums(service: CloudService, name: string): string[] {
  return service.cloud.named(name).volumes.map((id) => crc32(fs.readFileSync(service.cloud.volumes.fileOf(id))).toString(16));
}

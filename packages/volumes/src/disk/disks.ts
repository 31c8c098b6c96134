import { stretchOf, type Blocks } from '../blocks';
import { asDamage, VolumeError } from '../errors';
import { logicalVolumes, physicalVolume, type PhysicalVolume } from './lvm';
import { partitionsOf } from './partitions';
import { recognise, type Recognised } from './recognise';

/** A volume of a disk. */
export interface Volume extends Recognised {
  /** What it is called among the volumes of its disk: `p1`, `group-volume`, or `volume` where the disk has no table. */
  readonly name: string;
  /** Bytes. */
  readonly size: number;
  readonly blocks: Blocks | undefined;
  /** Why it can't be read, in words; '' where it can. */
  readonly why: string;
}

/** Partitions that hold nothing people look for. */
const passedOver = new Set(['21686148-6449-6e6f-744e-656564454649', 'e3c9e316-0b5c-4db8-817d-f92df00215ae']);

/** The volumes of each of the disks of one machine, volumes that span several under the one they begin on. */
export async function volumesOf(disks: ReadonlyMap<string, Blocks>): Promise<Map<string, Volume[]>> {
  const volumes = new Map<string, Volume[]>();
  const physical: PhysicalVolume[] = [];
  const diskOf = new Map<string, string>();
  const add = async (disk: string, name: string, blocks: Blocks) => {
    const member = await guarded(() => physicalVolume(blocks));
    if (member instanceof VolumeError) put(volumes, disk, { name, size: blocks.size, blocks, type: 'LVM', label: '', why: member.message });
    else if (member) {
      physical.push(member);
      diskOf.set(member.id, disk);
    } else put(volumes, disk, await volumeOf(name, blocks));
  };
  for (const [disk, blocks] of disks) {
    volumes.set(disk, []);
    const parts = await guarded(() => partitionsOf(blocks));
    if (parts instanceof VolumeError)
      put(volumes, disk, { name: 'volume', size: blocks.size, blocks, type: 'unknown', label: '', why: parts.message });
    else if (parts.length)
      for (const { number, offset, size } of parts.filter((p) => !passedOver.has(p.type)))
        await add(disk, `p${number}`, stretchOf(blocks, offset, size));
    else if (blocks.size > 0) await add(disk, 'volume', blocks);
  }
  const logical = await guarded(() => Promise.resolve(logicalVolumes(physical)));
  if (logical instanceof VolumeError) {
    for (const disk of new Set(diskOf.values()))
      put(volumes, disk, { name: 'lvm', size: 0, blocks: undefined, type: 'LVM', label: '', why: logical.message });
    return volumes;
  }
  for (const { name, size, firstOn, blocks, why } of logical) {
    const disk = diskOf.get(firstOn) ?? [...disks.keys()][0]!;
    put(volumes, disk, blocks ? await volumeOf(name, blocks) : { name, size, blocks, type: 'LVM', label: '', why });
  }
  return volumes;
}

function put(volumes: Map<string, Volume[]>, disk: string, volume: Volume): void {
  const own = volumes.get(disk) ?? [];
  own.push({ ...volume, name: volume.name.replace(/[/\0]/g, '_') });
  volumes.set(disk, own);
}

async function volumeOf(name: string, blocks: Blocks): Promise<Volume> {
  const found = await guarded(() => recognise(blocks));
  const common = { name, size: blocks.size, blocks };
  if (found instanceof VolumeError) return { ...common, type: 'unknown', label: '', why: found.message };
  return { ...common, ...found, why: found.open ? '' : notReadWords(found.type) };
}

function notReadWords(type: string): string {
  if (type === 'nothing') return 'nothing was ever written here';
  return type === 'unknown' ? 'nobody knows what is in it' : `what is in it is not read: ${type}`;
}

/** Damage as a value, so that one volume takes no other with it. */
async function guarded<T>(look: () => Promise<T>): Promise<T | VolumeError> {
  try {
    return await look();
  } catch (error) {
    const told = asDamage(error, 'front of a volume');
    if (told instanceof VolumeError) return told;
    throw error;
  }
}

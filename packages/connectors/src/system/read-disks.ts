import { z } from 'zod';
import type { ServerDisk, ServerVolume } from '@lithodex/kinds';

const Word = z
  .string()
  .nullish()
  .transform((text) => (text ?? '').trim().slice(0, 400));
const Size = z.union([z.number(), z.string()]).nullish().transform(Number);

interface Block {
  readonly kname: string;
  readonly type: string;
  readonly size: number;
  readonly 'log-sec': number;
  readonly fstype: string;
  readonly uuid: string;
  readonly label: string;
  readonly pttype: string;
  readonly ptuuid: string;
  readonly parttype: string;
  readonly partuuid: string;
  readonly partlabel: string;
  readonly start: number;
  readonly serial: string;
  readonly model: string;
  readonly hctl: string;
  readonly tran: string;
  readonly fsused: number | null;
  readonly mountpoints: readonly string[];
  readonly children: readonly Block[];
}

const Block: z.ZodType<Block> = z.lazy(() =>
  z.object({
    kname: Word,
    type: Word,
    size: Size,
    'log-sec': Size,
    fstype: Word,
    uuid: Word,
    label: Word,
    pttype: Word,
    ptuuid: Word,
    parttype: Word,
    partuuid: Word,
    partlabel: Word,
    start: Size,
    serial: Word,
    model: Word,
    hctl: Word,
    tran: Word,
    fsused: z
      .union([z.number(), z.string()])
      .nullish()
      .transform((n) => (n === null || n === undefined ? null : Number(n))),
    mountpoints: z
      .array(z.string().nullable())
      .max(1000)
      .default([])
      .transform((all) => all.flatMap((m) => m ?? [])),
    children: z.array(Block).max(1000).default([]),
  }),
);
const Blocks = z.object({ blockdevices: z.array(Block).max(1000) });

const sectorBytes = 512;
const layers: Readonly<Record<string, ServerVolume['layer']>> = { disk: 'disk', part: 'partition', lvm: 'logical', crypt: 'sealed' };
const layerOf = (type: string) => (type.startsWith('raid') || type === 'md' ? 'raid' : layers[type]);

/** What is mounted, as the kernel lists it. */
export interface Mounted {
  readonly device: string;
  readonly mount: string;
  readonly fileSystem: string;
  readonly options: string;
}

/** Lines of the kernel's list of mounts; blanks in names are written in octal. */
export function readMounts(text: string): Mounted[] {
  const plain = (word = '') => word.replace(/\\([0-7]{3})/g, (_, octal: string) => String.fromCharCode(parseInt(octal, 8)));
  return text
    .split('\n')
    .filter(Boolean)
    .map((line) => line.split(' '))
    .map(([device, mount, fileSystem, options]) => ({
      device: plain(device),
      mount: plain(mount),
      fileSystem: fileSystem ?? '',
      options: options ?? '',
    }));
}

/** Disks and volumes of a machine, from what `lsblk` and the kernel's list of mounts say. `taken`: whether what is mounted somewhere is in the point. Throws on what is no answer of `lsblk`. */
export function readDisks(
  blocks: string,
  mounts: readonly Mounted[],
  taken: (mount: string) => boolean,
): { readonly disks: ServerDisk[]; readonly volumes: ServerVolume[] } {
  const tops = Blocks.parse(JSON.parse(blocks)).blockdevices.filter((b) => b.type === 'disk' && b.size > 0 && !b.kname.startsWith('zram'));
  const optionsOf = new Map(mounts.map((m) => [m.mount, m.options]));
  const volumes = new Map<string, ServerVolume>();
  const visit = (block: Block, on: string) => {
    const known = volumes.get(block.kname);
    // what lies on several disks is listed below each
    if (known) volumes.set(block.kname, { ...known, on: [...new Set([...known.on, on])].slice(0, 64) });
    else if (holds(block)) volumes.set(block.kname, volumeOf(block, on, optionsOf, taken));
    for (const below of block.children) visit(below, below.type === 'part' ? below.kname : on);
  };
  for (const top of tops) visit(top, top.kname);
  return { disks: tops.slice(0, 64).map(diskOf), volumes: [...volumes.values()].slice(0, 128) };
}

/** Whether a device is one that something is stored on as such: what others are made of is seen through. */
const holds = (b: Block) => !b.children.length && layerOf(b.type) !== undefined && (b.fstype !== '' || b.mountpoints.length > 0);

function volumeOf(b: Block, on: string, optionsOf: ReadonlyMap<string, string>, taken: (mount: string) => boolean): ServerVolume {
  const mount = b.mountpoints.filter((m) => m.startsWith('/')).sort((a, c) => a.length - c.length)[0] ?? '';
  return {
    device: b.kname,
    layer: layerOf(b.type)!,
    on: [on],
    fileSystem: b.fstype,
    uuid: b.uuid,
    label: b.label,
    bytes: b.size,
    used: b.fsused,
    mount,
    options: (optionsOf.get(mount) ?? '').slice(0, 400),
    taken: mount !== '' && taken(mount),
  };
}

function diskOf(b: Block): ServerDisk {
  const table = b.pttype === 'gpt' ? 'gpt' : b.pttype === 'dos' ? 'mbr' : 'none';
  return {
    name: b.kname,
    bytes: b.size,
    sector: b['log-sec'] || sectorBytes,
    serial: b.serial,
    model: b.model,
    port: [b.tran, b.hctl].filter(Boolean).join(' '),
    table,
    tableId: b.ptuuid,
    partitions: b.children
      .filter((c) => c.type === 'part')
      .slice(0, 128)
      .map((c) => ({
        no: Number(/\d+$/.exec(c.kname)?.[0] ?? 0),
        start: c.start * sectorBytes,
        bytes: c.size,
        type: c.parttype,
        uuid: c.partuuid,
        label: c.partlabel,
      })),
  };
}

import { formatList } from '../text/format';
import type { SystemFacts, VolumeFacts } from './system-facts';

const parts = ['layout', 'firmware', 'loader', 'kernel', 'mounts', 'hardware', 'network', 'identity', 'clock', 'packages'] as const;
type Part = (typeof parts)[number];

/** Without these another machine can not start as this one. */
const essentials: ReadonlySet<Part> = new Set(['layout', 'firmware', 'loader', 'kernel', 'mounts']);

/** File systems that can be made anew. */
export const madeAnew: readonly string[] = ['ext2', 'ext3', 'ext4', 'vfat', 'swap'];

/** Where a system keeps what it starts from. */
const systemMounts: readonly string[] = ['/', '/usr', '/boot', '/boot/efi', '/efi'];
const loaderMounts: readonly string[] = ['/boot/efi', '/efi', '/boot'];

/** What volumes lie on that is not made anew yet, in words. */
const layerWords: Readonly<Partial<Record<VolumeFacts['layer'], string>>> = {
  logical: 'a logical volume',
  raid: 'on software RAID',
  sealed: 'encrypted',
};

/** A system part of a point; `missing` says what it lacks, '' where it is whole. */
export interface PartJudged {
  readonly part: Part;
  readonly essential: boolean;
  readonly missing: string;
}

/** Whether a volume is one that the system starts from. */
export const isOfSystem = ({ mount }: Pick<VolumeFacts, 'mount'>): boolean => systemMounts.includes(mount);

/** Which system parts of a server a point holds whole. */
export function judgeParts(system: SystemFacts): PartJudged[] {
  return parts.map((part) => ({
    part,
    essential: essentials.has(part),
    missing: system.unread[part] ?? lacks[part]?.(system) ?? '',
  }));
}

/** What keeps a server from being rebuilt; empty where nothing does. */
export const obstacles = (judged: readonly PartJudged[]): PartJudged[] => judged.filter((p) => p.essential && p.missing);

const lacks: Readonly<Partial<Record<Part, (system: SystemFacts) => string>>> = {
  layout({ disks, volumes }) {
    if (!disks.length) return 'no disk was found';
    const own = volumes.filter(isOfSystem);
    const root = own.find((v) => v.mount === '/');
    if (!root) return 'the volume that the system lies on was not found on any disk';
    const strange = own.filter((v) => !madeAnew.includes(v.fileSystem));
    if (strange.length)
      return `${formatList(strange.map((v) => `${v.mount} is ${v.fileSystem || 'of no known file system'}`))}, which can not be made anew`;
    const layered = own.filter((v) => v.layer in layerWords);
    if (layered.length) return `${formatList(layered.map((v) => `${v.mount} is ${layerWords[v.layer]}`))}, which is not made anew yet`;
    const absent = own.filter((v) => !v.taken);
    return absent.length ? `the files of ${formatList(absent.map((v) => v.mount))} are left out` : '';
  },
  firmware({ firmware, volumes }) {
    if (firmware === 'unknown') return 'it is not known whether it starts by UEFI or by BIOS';
    if (firmware === 'bios') return 'it starts by BIOS, whose loader is not made anew yet';
    const loads = volumes.some((v) => v.fileSystem === 'vfat' && loaderMounts.includes(v.mount));
    return !loads ? 'it starts by UEFI, and the volume it starts from is not mounted' : '';
  },
  loader: ({ loader }) => (loader ? '' : 'nothing that starts the kernel was recognised'),
  kernel({ kernels }) {
    if (!kernels.length) return 'no kernel was found in /boot';
    if (!kernels.some((k) => k.modules)) return 'the modules of its kernel were not found';
    return kernels.some((k) => k.modules && k.initramfs) ? '' : 'no kernel has an initramfs';
  },
  hardware: ({ memory, cores }) => (memory && cores ? '' : 'memory or processor is not known'),
  network: ({ cards }) => (cards.length ? '' : 'no network card was found'),
};

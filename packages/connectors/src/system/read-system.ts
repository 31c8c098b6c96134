import type { ServerSystem } from '@lithodex/kinds';
import type { Hardware } from './hardware';
import { readDisks, readMounts } from './read-disks';
import type { SystemFiles } from './system-files';

const mostPackages = 64 << 20;

/** Whether something is in the point; paths as on the server. */
export type Held = (path: string, isFolder: boolean) => boolean;

/** What a server says of itself: its hardware, and what the files of its system say, as far as the point holds them. */
export function readSystem(hardware: Hardware, files: SystemFiles, held: Held): ServerSystem {
  const unread: Record<string, string> = {};
  const { disks, volumes } = layoutOf(hardware, held, unread);
  const text = (path: string, most?: number) => (held(`/${path}`, false) ? files.text(path, most) : undefined);
  if (text('etc/fstab') === undefined) unread['mounts'] = '/etc/fstab, which says what is mounted where, is not in the point';
  const machineId = text('etc/machine-id')?.trim() ?? '';
  const host = text('etc/hostname')?.trim() ?? '';
  if (!host) unread['identity'] = '/etc/hostname, its name, is not in the point';
  const zone = text('etc/timezone')?.trim() ?? '';
  if (!zone) unread['clock'] = '/etc/timezone, its time zone, is not in the point';
  const packages = text('var/lib/dpkg/status', mostPackages);
  if (packages === undefined) unread['packages'] = 'the list of its packages is not in the point';
  const { firmware, bootEntries, architecture, processor, cores, memory, cards, routes, controllers } = hardware;
  return {
    host: host.slice(0, 400),
    machineId: machineId.slice(0, 400),
    system: nameOf(files.text('etc/os-release') ?? files.text('usr/lib/os-release') ?? ''),
    firmware,
    bootEntries,
    architecture,
    processor,
    cores,
    memory,
    disks,
    volumes,
    loader: loaderOf(files),
    kernels: kernelsOf(files, held),
    cards,
    routes,
    nameServers: nameServersOf(files.text('etc/resolv.conf') ?? files.text('run/systemd/resolve/resolv.conf') ?? ''),
    controllers,
    zone: zone.slice(0, 400),
    packages: [...(packages ?? '').matchAll(/^Status: install ok installed$/gm)].length,
    unread,
  };
}

function layoutOf(hardware: Hardware, held: Held, unread: Record<string, string>): ReturnType<typeof readDisks> {
  try {
    return readDisks(hardware.blocks, readMounts(hardware.mounts), (mount) => held(mount, true));
  } catch {
    unread['layout'] = 'the list of its disks could not be read';
    return { disks: [], volumes: [] };
  }
}

/** The name a system gives itself; source of the form: os-release(5). */
const nameOf = (text: string) => (/^PRETTY_NAME="?(.*?)"?$/m.exec(text)?.[1] ?? '').slice(0, 400);

const nameServersOf = (text: string) =>
  [...text.matchAll(/^\s*nameserver\s+(\S+)/gm)].slice(0, 16).map(([, address]) => address!.slice(0, 400));

function loaderOf(files: SystemFiles): string {
  if (files.text('boot/grub/grub.cfg', 1) !== undefined || files.text('boot/grub2/grub.cfg', 1) !== undefined) return 'GRUB';
  return files.text('boot/efi/loader/loader.conf', 1) !== undefined || files.text('efi/loader/loader.conf', 1) !== undefined
    ? 'systemd-boot'
    : '';
}

/** Kernels that can be started, the newest name last. */
function kernelsOf(files: SystemFiles, held: Held): ServerSystem['kernels'] {
  const names = new Set(files.names('boot').filter((name) => held(`/boot/${name}`, false)));
  const modules = new Set(
    ['lib/modules', 'usr/lib/modules'].flatMap((at) => files.names(at).filter((name) => held(`/${at}/${name}`, true))),
  );
  return [...names]
    .flatMap((name) => (name.startsWith('vmlinuz-') ? name.slice('vmlinuz-'.length) : []))
    .sort()
    .slice(-32)
    .map((version) => ({
      version: version.slice(0, 400),
      initramfs: names.has(`initrd.img-${version}`) || names.has(`initramfs-${version}.img`),
      modules: modules.has(version),
    }));
}

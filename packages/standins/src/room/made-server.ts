import fs from 'node:fs';
import path from 'node:path';

const mebibyte = 1 << 20;
const gigabyte = 1e9;
const kernel = '6.1.0-31-amd64';

/** A server that stands in a machine room, made up: two disks, started by UEFI, its logs on the second. */
export interface MadeServer {
  readonly host: string;
  readonly address: string;
  /** Bytes of its two disks. */
  readonly disks: readonly [number, number];
  /** Bytes that its system and its logs use. */
  readonly used: readonly [number, number];
}

/** Writes a file of a system with the time it was made at. */
function put(root: string, file: string, text: string, at: number): void {
  const whole = path.join(root, file);
  fs.mkdirSync(path.dirname(whole), { recursive: true });
  fs.writeFileSync(whole, text);
  fs.utimesSync(whole, at / 1000, at / 1000);
}

/** Digits that are always the same for the same name. */
const digits = (name: string, many: number) =>
  [...Array(many).keys()].map((i) => ((name.charCodeAt(i % name.length) * 31 + i * 17 + name.length) % 16).toString(16)).join('');
const uuidOf = (name: string) => digits(name, 32).replace(/^(.{8})(.{4}).(.{3}).(.{3})(.{12})$/, '$1-$2-4$3-8$4-$5');

/** Fills a folder with the small files of a system, as far as they tell how it starts. */
export function fillServer(folder: string, { host, address }: MadeServer, at: number): void {
  const files: Readonly<Record<string, string>> = {
    'etc/hostname': `${host}\n`,
    'etc/machine-id': `${digits(`${host} id`, 32)}\n`,
    'etc/timezone': 'Europe/Oslo\n',
    'etc/os-release': 'PRETTY_NAME="Harbour Linux 12"\nID=harbour\nVERSION_ID="12"\n',
    'etc/resolv.conf': 'nameserver 192.0.2.53\n',
    'etc/fstab': `UUID=${uuidOf(`${host} system`)} / ext4 errors=remount-ro 0 1\nUUID=${uuidOf(`${host} start`).slice(0, 9).toUpperCase()} /boot/efi vfat umask=0077 0 1\nUUID=${uuidOf(`${host} logs`)} /var/gate ext4 defaults 0 2\n`,
    'etc/network/interfaces': `auto eno1\niface eno1 inet static\n  address ${address}\n  gateway 192.0.2.1\n`,
    [`boot/vmlinuz-${kernel}`]: `a kernel of the story, for ${host}\n`.repeat(4000),
    [`boot/initrd.img-${kernel}`]: `what ${host} starts with\n`.repeat(6000),
    'boot/grub/grub.cfg': `menuentry "Harbour Linux" { linux /boot/vmlinuz-${kernel} root=UUID=${uuidOf(`${host} system`)} }\n`,
    'boot/efi/EFI/BOOT/BOOTX64.EFI': `a loader of the story, for ${host}\n`.repeat(2000),
    [`usr/lib/modules/${kernel}/modules.dep`]: 'kernel/drivers/net/nx2.ko:\n',
    'var/lib/dpkg/status': ['base-files', 'gate-control', 'openssh-server', 'systemd']
      .map((name) => `Package: ${name}\nStatus: install ok installed\nVersion: 1.0\n`)
      .join('\n'),
    'srv/gate/barriers.csv': 'barrier;lane;open;close\nnorth;1;05:30;23:00\nsouth;2;05:30;23:00\n',
    'proc/version': 'made up by the kernel\n',
  };
  for (const [file, text] of Object.entries(files)) put(folder, file, text, at);
  fs.mkdirSync(path.join(folder, 'var/gate'), { recursive: true });
}

/** What its hardware says: as a mover reads it from its kernel. */
export function hardwareOf({ host, address, disks, used }: MadeServer): object {
  const nothing = {
    fstype: null,
    uuid: null,
    label: null,
    parttype: null,
    partuuid: null,
    partlabel: null,
    start: null,
    fsused: null,
    mountpoints: [null],
  };
  const part = (kname: string, start: number, size: number, more: object) => ({
    ...nothing,
    kname,
    type: 'part',
    size,
    'log-sec': 512,
    start: start / 512,
    ...more,
  });
  const disk = (kname: string, size: number, serial: string, port: string, children: object[]) => ({
    ...nothing,
    kname,
    type: 'disk',
    size,
    'log-sec': 512,
    pttype: 'gpt',
    ptuuid: uuidOf(`${host} ${kname}`),
    serial,
    model: 'Harbour Disk',
    hctl: port,
    tran: 'sata',
    children,
  });
  const [system, logs] = disks;
  const swap = 8 * gigabyte;
  const start = 512 * mebibyte;
  const root = system - start - swap - 4 * mebibyte;
  const linux = '0fc63daf-8483-4772-8e79-3d69d8477de4';
  const first = [
    part('sda1', mebibyte, start, {
      fstype: 'vfat',
      uuid: uuidOf(`${host} start`).slice(0, 9).toUpperCase(),
      parttype: 'c12a7328-f81f-11d2-ba4b-00a0c93ec93b',
      partuuid: uuidOf(`${host} sda1`),
      fsused: 6 * mebibyte,
      mountpoints: ['/boot/efi'],
    }),
    part('sda2', mebibyte + start, root, {
      fstype: 'ext4',
      uuid: uuidOf(`${host} system`),
      label: 'system',
      parttype: linux,
      partuuid: uuidOf(`${host} sda2`),
      fsused: used[0],
      mountpoints: ['/'],
    }),
    part('sda3', mebibyte + start + root, swap, {
      fstype: 'swap',
      uuid: uuidOf(`${host} swap`),
      parttype: '0657fd6d-a4ab-43c4-84e5-0933c84b4f4f',
      partuuid: uuidOf(`${host} sda3`),
      mountpoints: ['[SWAP]'],
    }),
  ];
  const second = [
    part('sdb1', mebibyte, logs - 3 * mebibyte, {
      fstype: 'ext4',
      uuid: uuidOf(`${host} logs`),
      label: 'gate-logs',
      parttype: linux,
      partuuid: uuidOf(`${host} sdb1`),
      fsused: used[1],
      mountpoints: ['/var/gate'],
    }),
  ];
  return {
    firmware: 'uefi',
    bootEntries: [
      { label: 'Harbour Linux', first: true, file: '\\EFI\\BOOT\\BOOTX64.EFI' },
      { label: 'Network', first: false, file: '' },
    ],
    architecture: 'x86_64',
    processor: 'Harbour Processor 8 cores',
    cores: 8,
    memory: 16 * gigabyte,
    blocks: JSON.stringify({
      blockdevices: [
        disk('sda', system, `7F${digits(host, 4).toUpperCase()}`, '0:0:0:0', first),
        disk('sdb', logs, `09${digits(`${host} b`, 4).toUpperCase()}`, '1:0:0:0', second),
      ],
    }),
    mounts: [
      '/dev/sda2 / ext4 rw,relatime,errors=remount-ro 0 0',
      'proc /proc proc rw 0 0',
      'sysfs /sys sysfs rw 0 0',
      'tmpfs /run tmpfs rw 0 0',
      '/dev/sda1 /boot/efi vfat rw,umask=0077 0 0',
      '/dev/sdb1 /var/gate ext4 rw,relatime 0 0',
    ].join('\n'),
    cards: [
      { name: 'eno1', mac: `02:00:5e:${digits(host, 6).replace(/(..)(..)(..)/, '$1:$2:$3')}`, driver: 'e1000e', addresses: [address] },
      { name: 'eno2', mac: `02:00:5f:${digits(host, 6).replace(/(..)(..)(..)/, '$1:$2:$3')}`, driver: 'nx2', addresses: [] },
    ],
    routes: ['default via 192.0.2.1 on eno1'],
    controllers: [{ name: 'storage 8086:a352', driver: 'ahci' }],
  };
}

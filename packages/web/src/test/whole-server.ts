import type { Ready } from '@lithodex/contract';
import { uuid } from './samples';
import { hour, now } from './stage';

const volume = (device: string, mount: string, bytes: number, used: number | null, more: object = {}) => ({
  device,
  layer: 'partition' as const,
  on: [device],
  fileSystem: 'ext4',
  uuid: '',
  label: '',
  bytes,
  used,
  mount,
  options: '',
  taken: true,
  ...more,
});
const partition = (no: number, start: number, bytes: number) => ({ no, start, bytes, type: '', uuid: '', label: '' });
const disk = (name: string, bytes: number, partitions: ReturnType<typeof partition>[]) => ({
  name,
  bytes,
  sector: 512,
  serial: `K3-${name}`,
  model: 'Harbour Disk',
  port: 'sata 0',
  table: 'gpt' as const,
  tableId: '',
  partitions,
});
/** Of a server with one disk, read whole. */
export const whole: Ready = {
  point: { id: uuid(4), moment: now - 8 * hour },
  lastWhole: { id: uuid(4), moment: now - 8 * hour },
  lacksSince: null,
  points: [{ id: uuid(4), moment: now - 8 * hour, whole: true }],
  parts: [
    { part: 'layout', essential: true, missing: '' },
    { part: 'kernel', essential: true, missing: '' },
    { part: 'packages', essential: false, missing: 'the list of its packages is not in the point' },
  ],
  system: {
    host: 'quay-gate',
    machineId: '',
    system: 'Harbour Linux 12',
    firmware: 'uefi',
    bootEntries: [{ label: 'Harbour Linux', first: true, file: '' }],
    architecture: 'x86_64',
    processor: 'Harbour Processor',
    cores: 8,
    memory: 16e9,
    disks: [disk('sda', 64e9, [partition(1, 1e6, 40e9), partition(2, 41e9, 8e9)]), disk('sdb', 500e9, [partition(1, 1e6, 400e9)])],
    volumes: [
      volume('sda1', '/', 40e9, 20e9),
      volume('sda2', '', 8e9, null, { fileSystem: 'swap', taken: false }),
      volume('sdb1', '/srv/store', 400e9, 300e9, { taken: false }),
    ],
    loader: 'GRUB',
    kernels: [{ version: '6.1.0', initramfs: true, modules: true }],
    cards: [{ name: 'eno1', mac: '02:00:5e:00:00:01', driver: 'e1000e', addresses: ['192.0.2.37/24'] }],
    routes: ['default via 192.0.2.1 on eno1'],
    nameServers: [],
    controllers: [{ name: 'storage 8086:a352', driver: '' }],
    zone: 'Europe/Oslo',
    packages: 412,
    unread: {},
  },
};

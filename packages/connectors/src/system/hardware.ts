import { execFile } from 'node:child_process';
import fs from 'node:fs';
import os from 'node:os';
import { promisify } from 'node:util';
import { z } from 'zod';
import { readBootEntries } from './boot-entries';

const Word = z.string().max(400);

/** What a machine tells that is no file of its system: the kernel's view of its hardware. */
export const Hardware = z.object({
  firmware: z.enum(['uefi', 'bios', 'unknown']),
  bootEntries: z.array(z.object({ label: Word, first: z.boolean(), file: Word })).max(64),
  architecture: Word,
  processor: Word,
  cores: z.int().min(0).max(8192),
  memory: z.number().min(0),
  /** As `lsblk --json --bytes` answers. */
  blocks: z.string().max(4 << 20),
  /** As the kernel lists what is mounted. */
  mounts: z.string().max(4 << 20),
  cards: z.array(z.object({ name: Word, mac: Word, driver: Word, addresses: z.array(Word).max(32) })).max(64),
  routes: z.array(Word).max(64),
  controllers: z.array(z.object({ name: Word, driver: Word })).max(64),
});
export type Hardware = z.infer<typeof Hardware>;

/** What is asked of `lsblk`. */
const columns =
  'NAME,KNAME,TYPE,SIZE,LOG-SEC,FSTYPE,UUID,LABEL,PTTYPE,PTUUID,PARTTYPE,PARTUUID,PARTLABEL,START,SERIAL,MODEL,HCTL,TRAN,FSUSED,MOUNTPOINTS';
const askMs = 20_000;

/** Of the host this runs on. What can't be told is empty. */
export async function hardwareOfHost(): Promise<Hardware> {
  const { stdout } = await promisify(execFile)('lsblk', ['--json', '--bytes', '--output', columns], { timeout: askMs, maxBuffer: 4 << 20 });
  const uefi = fs.existsSync('/sys/firmware/efi');
  return {
    firmware: uefi ? 'uefi' : 'bios',
    bootEntries: uefi ? readBootEntries('/sys/firmware/efi/efivars') : [],
    architecture: os.machine(),
    processor: os.cpus()[0]?.model ?? '',
    cores: os.cpus().length,
    memory: os.totalmem(),
    blocks: stdout,
    mounts: fs.readFileSync('/proc/self/mounts', 'latin1').slice(0, 4 << 20),
    cards: cardsOf('/sys/class/net'),
    routes: routesOf('/proc/net/route'),
    controllers: controllersOf('/sys/bus/pci/devices'),
  };
}

const namesOf = (folder: string) => (fs.existsSync(folder) ? fs.readdirSync(folder).sort() : []);
const lineOf = (file: string) => {
  try {
    return fs.readFileSync(file, 'latin1').trim();
  } catch {
    return '';
  }
};
const driverOf = (device: string) => {
  try {
    return fs.readlinkSync(`${device}/driver`).split('/').at(-1)!;
  } catch {
    return '';
  }
};

/** Cards that are a device of the machine; bridges and the like are made by its settings. */
function cardsOf(folder: string): Hardware['cards'] {
  const known = os.networkInterfaces();
  return namesOf(folder)
    .filter((name) => fs.existsSync(`${folder}/${name}/device`))
    .slice(0, 64)
    .map((name) => ({
      name,
      mac: lineOf(`${folder}/${name}/address`),
      driver: driverOf(`${folder}/${name}/device`),
      addresses: (known[name] ?? [])
        .flatMap(({ cidr, internal }) => (cidr && !internal && !cidr.startsWith('fe80:') ? [cidr] : []))
        .slice(0, 32),
    }));
}

/** Gateways of the kernel's table of routes, whose numbers stand in it with the lowest byte first. */
function routesOf(file: string): string[] {
  return lineOf(file)
    .split('\n')
    .slice(1)
    .map((line) => line.split('\t'))
    .filter(([, , gateway]) => gateway && gateway !== '00000000')
    .slice(0, 64)
    .map(([card, to, gateway]) => `${to === '00000000' ? 'default' : addressOf(to!)} via ${addressOf(gateway!)} on ${card}`);
}

const addressOf = (hex: string) => Buffer.from(hex, 'hex').reverse().join('.');

/** Of the classes of the PCI standard that hold disks (01) and networks (02). */
function controllersOf(folder: string): Hardware['controllers'] {
  const kinds: Readonly<Record<string, string>> = { '0x01': 'storage', '0x02': 'network' };
  return namesOf(folder)
    .flatMap((slot) => {
      const device = `${folder}/${slot}`;
      const kind = kinds[lineOf(`${device}/class`).slice(0, 4)];
      const id = [lineOf(`${device}/vendor`), lineOf(`${device}/device`)].map((n) => n.replace('0x', '')).join(':');
      return kind ? [{ name: `${kind} ${id}`, driver: driverOf(device) }] : [];
    })
    .slice(0, 64);
}

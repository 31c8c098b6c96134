import { execFileSync, spawnSync } from 'node:child_process';
import fs from 'node:fs';
import os from 'node:os';
import { fillServer, hardwareOf, type MadeServer } from '@lithodex/standins';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { freePort } from '../../scripts/launcher/mariadb.mjs';
import { medium } from '../../scripts/launcher/medium.mjs';
import { Harness, type Client } from '../support/harness';
import { FirmwareGuest } from './firmware-guest';
import { smallLinux } from './small-guest';

const mebibyte = 1 << 20;
const gate: MadeServer = { host: 'quay-gate', address: '192.0.2.37/24', disks: [10e9, 20e9], used: [100 * mebibyte, 10 * mebibyte] };
/** What the rebuilt server does when it starts: it looks at its own volumes and says so. */
const comesBack = `root=$(sed -n 's/.*root=UUID=\\([^ ]*\\).*/\\1/p' /proc/cmdline)
mount -t ext4 $(findfs UUID=$root) /mnt || echo NO-SYSTEM
logs=$(sed -n 's/^UUID=\\([^ ]*\\) \\/var\\/gate .*/\\1/p' /mnt/etc/fstab)
mount -t ext4 $(findfs UUID=$logs) /mnt/var/gate || echo NO-LOGS
echo "BACK $(cat /mnt/etc/hostname) WITH $(cat /mnt/var/gate/today) $(sha256sum < /mnt/srv/gate/ballast | cut -c1-64) $(stat -c %u:%g:%a /mnt/srv/gate/barriers.csv)"`;

let h: Harness;
let admin: Client;
let root: string;
let workloadId: number;
let pointId: string;
let guest: FirmwareGuest | undefined;

/** An address of this host that a machine under QEMU reaches as such. */
const ownAddress = () =>
  Object.values(os.networkInterfaces())
    .flat()
    .find((i) => i?.family === 'IPv4' && !i.internal)?.address;

beforeAll(async () => {
  h = await Harness.start({ movers: 0, schedulerMs: 300 });
  admin = await h.as('administrator');
  root = `${h.folder}/quay-gate`;
  fillServer(root, gate, Date.parse('2026-10-01'));
  const linux = smallLinux(h.folder, comesBack, ['virtio_pci', 'virtio_blk', 'ext4']);
  const [kernel, initramfs] = ['vmlinuz', 'initrd.img'].map((name) => fs.readdirSync(`${root}/boot`).find((f) => f.startsWith(name))!);
  fs.copyFileSync(linux.kernel, `${root}/boot/${kernel!}`);
  fs.copyFileSync(linux.initramfs, `${root}/boot/${initramfs!}`);
  const uuid = /^UUID=(\S+) \/ /m.exec(fs.readFileSync(`${root}/etc/fstab`, 'utf8'))![1]!;
  fs.writeFileSync(
    `${h.folder}/early.cfg`,
    `search --fs-uuid --set=root ${uuid}\nlinux /boot/${kernel!} root=UUID=${uuid} console=ttyS0\ninitrd /boot/${initramfs!}\nboot\n`,
  );
  const modules = ['part_gpt', 'ext2', 'fat', 'search', 'search_fs_uuid', 'linux', 'normal', 'serial'];
  const loader = ['-O', 'x86_64-efi', '-p', '/boot/grub', '-c', `${h.folder}/early.cfg`, '-o', `${root}/boot/efi/EFI/BOOT/BOOTX64.EFI`];
  execFileSync('grub-mkimage', [...loader, ...modules]);
  fs.writeFileSync(`${root}/srv/gate/ballast`, Buffer.alloc(20 * mebibyte, 'what the gate keeps. '));
  fs.chownSync(`${root}/srv/gate/barriers.csv`, 1234, 4321);
  fs.chmodSync(`${root}/srv/gate/barriers.csv`, 0o4750);
  fs.writeFileSync(`${root}/var/gate/today`, 'north-opened');
  fs.writeFileSync(`${h.folder}/quay-gate.json`, JSON.stringify(hardwareOf(gate)));
  fs.writeFileSync(`${h.folder}/mover.json`, JSON.stringify({ hardware: { [root]: `${h.folder}/quay-gate.json` } }));
  h.startMover('mover-1', { receive: `${ownAddress()!}:${await freePort()}` });
  const { targetId } = await h.connect(admin);
  ({ workloadId } = await admin.call('addSource', { body: { name: 'quay-gate', folder: root, wholeServer: true } }));
  const kept = { targetId, keep: { by: 'days' as const, days: 9 } };
  await admin.ended((await admin.call('protectOnce', { id: workloadId, body: kept })).runId);
  pointId = (await admin.call('readyToRebuild', { id: workloadId })).point!.id;
}, 300_000);
afterEach(() => guest?.off());
afterAll(() => h.stop());

const listed = async () => (await admin.call('listUnits')).rows.find((u) => u.name === 'C4-07');
async function started(file: string, blank = true): Promise<void> {
  const { code } = await admin.call('inviteUnit', { body: {} });
  const server = h.base.replace('127.0.0.1', '10.0.2.2');
  await medium({ server, code, name: 'C4-07', out: file, kernel: 'virtual' });
  const disks = ['K9-02', 'K9-01'].map((serial, i) => {
    const disk = `${h.folder}/${serial}.raw`;
    if (blank) {
      fs.writeFileSync(disk, '');
      fs.truncateSync(disk, (i === 0 ? 9000 : 900) * mebibyte);
    }
    return { file: disk, serial };
  });
  guest = new FirmwareGuest(h.folder, file, disks);
  await guest.says(/LITHODEX RECOVERY \S+, unit C4-07/);
  await expect.poll(async () => (await listed())?.present, { timeout: 90_000, interval: 300 }).toBe(true);
}

const restore = () => ({
  picks: [{ pointId, path: '' }],
  destination: { to: 'unit' as const, unit: 'C4-07' },
  reason: 'its hardware is gone',
});

describe('a server that is gone', () => {
  it('is rebuilt on a machine that starts from the medium, starts from its disks, and has all its files', async () => {
    const file = `${h.folder}/medium.iso`;
    await started(file);
    expect((await listed())!.facts).toMatchObject({
      firmware: 'uefi',
      architecture: 'x86_64',
      disks: [
        { id: 'K9-02', bytes: 9000 * mebibyte, holds: '', first: true },
        { id: 'K9-01', bytes: 900 * mebibyte, holds: '' },
      ],
      cards: [{ driver: 'virtio_net' }],
    });
    const run = await admin.ended((await admin.call('startRestore', { body: restore() })).runId, 300_000);
    expect(run.tasks[0]).toMatchObject({ state: 'done', cause: null });
    await guest!.says(/LITHODEX DISKS WHOLE/);
    await guest!.says(/BACK quay-gate/);
    const sum = execFileSync('sha256sum', [`${root}/srv/gate/ballast`], { encoding: 'utf8' }).slice(0, 64);
    expect(guest!.console).toContain(`BACK quay-gate WITH north-opened ${sum} 1234:4321:4750`);
    await guest!.off();
    for (const serial of ['K9-02', 'K9-01']) expect(spawnSync('sfdisk', ['-V', `${h.folder}/${serial}.raw`])).toMatchObject({ status: 0 });
    // the code has served: the same medium lets nobody in any more
    await admin.call('forgetUnit', { id: 'C4-07' });
    fs.truncateSync(`${h.folder}/K9-02.raw`, 0);
    fs.truncateSync(`${h.folder}/K9-02.raw`, 9000 * mebibyte);
    guest = new FirmwareGuest(h.folder, file, [{ file: `${h.folder}/K9-02.raw`, serial: 'K9-02' }]);
    await guest.says(/LITHODEX RECOVERY ENDED/);
    expect(guest.console).toContain('This code is not valid');
    expect(await listed()).toBeUndefined();
  }, 900_000);

  it('becomes whole also where power is cut while it is written, and does not start from half of it', async () => {
    await started(`${h.folder}/medium.iso`);
    const { runId } = await admin.call('startRestore', { body: restore() });
    await expect
      .poll(() => fs.statSync(`${h.folder}/K9-02.raw`).blocks * 512, { timeout: 240_000, interval: 20 })
      .toBeGreaterThan(30 * mebibyte);
    await guest!.off();
    await started(`${h.folder}/second.iso`, false);
    expect(guest!.console).not.toContain('BACK');
    const run = await admin.ended(runId, 300_000);
    expect(run.tasks[0]).toMatchObject({ state: 'done', cause: null });
    await guest!.says(/BACK quay-gate/);
  }, 900_000);
});

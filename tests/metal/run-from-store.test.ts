import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { connectorOf } from '@lithodex/connectors';
import { DiskFolder, Store } from '@lithodex/engine';
import { exportedOf, NbdServer, nbdUser, Overlay, OverlayRoom } from '@lithodex/mover';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { pointOfDisks } from '../support/machine-point';
import { temporaryFolder } from '../support/nasty-tree';
import { SmallGuest, smallLinux, type SmallLinux } from './small-guest';

const MiB = 1 << 20;
const diskBytes = 2048 * MiB;
/** Counts in a file on its disk, each number flushed before it is said, until somebody types something. */
const counts = `mount -t ext4 /dev/vda /mnt || echo NO-DISK
echo "BOOTED $(cat /mnt/name) AFTER $(wc -l < /mnt/ledger)"
(read line; touch /tmp/stop) < /dev/ttyS0 &
n=$(wc -l < /mnt/ledger)
while [ ! -e /tmp/stop ]; do
  n=$((n + 1)); echo "entry $n" >> /mnt/ledger; sync; echo "WROTE $n"; sleep 0.1
done
umount /mnt
echo STOPPED`;

let base: string;
let linux: SmallLinux;
let store: Store;
let key: Buffer;
let server: NbdServer | undefined;
let guest: SmallGuest | undefined;

beforeAll(async () => {
  base = temporaryFolder('metal');
  linux = smallLinux(base, counts, ['virtio_pci', 'virtio_blk', 'ext4']);
  fs.mkdirSync(`${base}/store`);
  store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
  key = randomBytes(32);
  fs.writeFileSync(`${base}/keys.psk`, `${nbdUser}:${key.toString('hex')}\n`, { mode: 0o600 });
  fs.mkdirSync(`${base}/files`);
  fs.writeFileSync(`${base}/files/name`, 'gate-01\n');
  fs.writeFileSync(`${base}/files/ledger`, '');
  fs.writeFileSync(`${base}/files/ballast`, randomBytes(40 * MiB));
  fs.writeFileSync(`${base}/disk.raw`, '');
  fs.truncateSync(`${base}/disk.raw`, diskBytes);
  execFileSync('mkfs.ext4', ['-q', '-F', '-d', `${base}/files`, `${base}/disk.raw`]);
}, 300_000);
afterAll(() => {
  guest?.kill();
  server?.close();
  fs.rmSync(base, { recursive: true, force: true });
});

const numbers = (text: string) => [...text.matchAll(/WROTE (\d+)/g)].map(([, n]) => Number(n));
const reached = async (n: number) => {
  while (Math.max(0, ...numbers(guest!.console)) < n) await guest!.says(new RegExp(`WROTE ${n}\\b`));
};
const written = () => Math.max(0, ...numbers(guest!.console));
const ledger = (image: string) =>
  execFileSync('debugfs', ['-R', 'cat /ledger', image], { encoding: 'utf8', stdio: ['ignore', 'pipe', 'ignore'] });

describe('a real machine', () => {
  it('boots from a point, outlives the end of what serves it, is mirrored while it writes, and goes on without the store', async () => {
    const point = await pointOfDisks(store, 't1', { system: `${base}/disk.raw` });
    const open = async () =>
      new Overlay(
        `${base}/overlay`,
        exportedOf(await (await connectorOf('machine')).device!(point, 'disks/system.raw')),
        new OverlayRoom(512 * MiB),
      );
    const serve = async (overlay: Overlay, port: number) => {
      server = new NbdServer({ exports: new Map([['disk-0', overlay]]), onRead: (bytes) => (read += bytes) }, key);
      return server.listen('127.0.0.1', port);
    };
    let read = 0;
    let overlay = await open();
    const port = await serve(overlay, 0);
    const began = performance.now();
    guest = new SmallGuest(base, linux, [
      '-object',
      `tls-creds-psk,id=k,dir=${base},endpoint=client,username=${nbdUser}`,
      '-blockdev',
      `driver=nbd,node-name=store,server.type=inet,server.host=127.0.0.1,server.port=${port},export=disk-0,tls-creds=k,reconnect-delay=120`,
      '-device',
      'virtio-blk-pci,drive=store,id=disk',
    ]);
    await guest.says(/BOOTED gate-01 AFTER 0/);
    await reached(5);
    const booted = (performance.now() - began) / 1000;
    expect(read).toBeLessThan(40 * MiB);

    server!.close();
    overlay.close();
    const before = written();
    await new Promise((resume) => setTimeout(resume, 3000));
    overlay = await open();
    await serve(overlay, port);
    await reached(before + 5);

    fs.writeFileSync(`${base}/production.raw`, '');
    fs.truncateSync(`${base}/production.raw`, diskBytes);
    await guest.ask('blockdev-add', {
      'node-name': 'production',
      driver: 'raw',
      'detect-zeroes': 'unmap',
      discard: 'unmap',
      file: { driver: 'file', filename: `${base}/production.raw` },
    });
    const copying = performance.now();
    await guest.ask('blockdev-mirror', { 'job-id': 'copy', device: 'store', target: 'production', sync: 'full' });
    await guest.happens('BLOCK_JOB_READY', 300);
    const cutting = performance.now();
    await guest.ask('block-job-complete', { device: 'copy' });
    await guest.happens('BLOCK_JOB_COMPLETED');
    const cut = performance.now();
    await guest.ask('blockdev-del', { 'node-name': 'store' });
    server!.close();
    overlay.close();
    fs.rmSync(`${base}/store`, { recursive: true });
    const atCut = written();
    await reached(atCut + 10);
    guest.type('that is enough');
    await guest.says(/STOPPED/);
    await guest.ended;

    const all = numbers(guest.console);
    expect(all).toEqual(all.map((_, i) => i + 1));
    expect(ledger(`${base}/production.raw`)).toBe(all.map((n) => `entry ${n}\n`).join(''));
    execFileSync('e2fsck', ['-fn', `${base}/production.raw`], { stdio: 'pipe' });

    guest = new SmallGuest(base, linux, ['-drive', `file=${base}/production.raw,format=raw,if=virtio`]);
    await guest.says(new RegExp(`BOOTED gate-01 AFTER ${all.length}`));
    guest.type('that is enough');
    await guest.ended;
    process.stdout.write(
      `booted from the store and wrote in ${booted.toFixed(1)} s, having read ${(read / MiB).toFixed(0)} MiB; copied in ${((cutting - copying) / 1000).toFixed(1)} s, cut over in ${(cut - cutting).toFixed(0)} ms\n`,
    );
  });
});

// "./lithodex medium": an image that a machine starts from, by UEFI or BIOS, to report in and be made a server.
import { execFileSync } from 'node:child_process';
import {
  chmodSync,
  copyFileSync,
  cpSync,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  realpathSync,
  renameSync,
  rmSync,
  symlinkSync,
  writeFileSync,
} from 'node:fs';
import { createHash } from 'node:crypto';
import os from 'node:os';
import path from 'node:path';
import { build } from './install.mjs';

/** Debian's kernels by what they are for: any hardware, or virtual machines only. */
const kernels = { standard: 'linux-image-amd64', virtual: 'linux-image-cloud-amd64' };
/** Folders of modules that a machine may need to find its disks, its network and the medium. */
const drivers = [
  'ata',
  'block',
  'cdrom',
  'hid',
  'message',
  'net',
  'nvme',
  'nvdimm',
  'scsi',
  'usb',
  'virtio',
  'mmc',
  'thunderbolt',
  'pci',
  'dca',
  'mfd',
  'ptp',
  'pps',
  'misc/mei',
];
const besides = ['fs', 'lib', 'net/core', 'net/packet', 'net/802', 'crypto', 'arch'];
const leftOut =
  /\/(net\/(wireless|can|wan|ieee802154|fddi|hamradio|plip|ppp|slip|arcnet)|usb\/(serial|gadget|misc|atm)|fs\/(nfs|nfsd|cifs|smb|ceph|ocfs2|gfs2|btrfs|xfs|f2fs|reiserfs|jfs|afs|9p|bcachefs))\//;
const tools = ['sfdisk', 'lsblk', 'blkid', 'wipefs', 'mke2fs', 'e2fsck', 'mkfs.vfat', 'mkswap', 'tar'];
const plain = /^[\w.:/@[\]-]{1,300}$/;

const sh = (text, cwd) => execFileSync('sh', ['-euc', text], { cwd, encoding: 'utf8', stdio: ['ignore', 'pipe', 'inherit'] });
const where = (command) => realpathSync(sh(`PATH="$PATH:/usr/sbin:/sbin" command -v ${command}`).trim());

/** The files of a kernel of Debian, unpacked once for all media. */
function kernelOf(flavour) {
  // not where others may write: what is here is what machines start from
  const cache = path.resolve('dist/medium', flavour);
  if (!existsSync(path.join(cache, 'kernel'))) {
    mkdirSync(cache, { recursive: true, mode: 0o755 });
    sh(
      `apt-get download -q ${kernels[flavour]} >/dev/null
      name=$(dpkg-deb -f ${kernels[flavour]}_*.deb Depends | grep -o 'linux-image-[0-9][^ ,]*' | head -1)
      apt-get download -q "$name" >/dev/null
      rm -rf unpacked && mkdir unpacked && dpkg-deb -x "$name"_*.deb unpacked && mv unpacked kernel`,
      cache,
    );
  }
  const image = readdirSync(path.join(cache, 'kernel/boot')).find((f) => f.startsWith('vmlinuz-'));
  return { folder: path.join(cache, 'kernel'), image: path.join(cache, 'kernel/boot', image), version: image.slice('vmlinuz-'.length) };
}

/** What the kernel starts first: it finds the medium, brings the network up, and starts the unit from there. */
const init = (version) => `#!/bin/busybox sh
/bin/busybox mount -t proc proc /proc
/bin/busybox --install -s /bin
export PATH=/bin
mount -t sysfs sys /sys
mount -t devtmpfs dev /dev
echo 1 > /proc/sys/kernel/printk
for round in 1 2 3; do
  find /sys/devices -name modalias | xargs sort -u | xargs modprobe -aq 2>/dev/null
  modprobe -aq sd_mod sr_mod isofs ext4 vfat nls_cp437 nls_ascii nls_iso8859-1 nls_utf8 af_packet 2>/dev/null
  sleep 1
done
for n in $(seq 30); do device=$(findfs LABEL=LITHODEX 2>/dev/null) && break; sleep 1; done
mount -t iso9660 -o ro "$device" /medium || { echo "The medium itself is not found: its driver is missing."; exec sh; }
. /medium/settings
live=/medium/live
for each in tmp run mnt; do mount -t tmpfs tmpfs $live/$each; done
for each in dev proc sys; do mount --bind /$each $live/$each; done
ip link set lo up
for card in /sys/class/net/*; do
  card=$(basename $card)
  [ "$card" = lo ] && continue
  ip link set "$card" up && udhcpc -i "$card" -n -q -t 8 -s /udhcpc >/dev/null 2>&1
done
[ -n "$NAME" ] || NAME="unit-$(cat /sys/class/net/[^l]*/address | head -1 | tr -d :)"
echo "LITHODEX RECOVERY ${version}, unit $NAME, server $SERVER"
chroot $live /usr/bin/env -i PATH=/usr/bin:/usr/sbin NODE_EXTRA_CA_CERTS="$AUTHORITY" /usr/bin/node /lithodex/dist/node/unit.js --server "$SERVER" --name "$NAME" --join "$CODE" --token-file /run/token --metal /mnt --log-level warn
if [ $? = 0 ]; then echo "LITHODEX DISKS WHOLE, STARTING FROM THEM"; sync; reboot -f; fi
echo "LITHODEX RECOVERY ENDED; turn the machine off and on to begin again"
exec sh
`;

const udhcpc = `#!/bin/busybox sh
case "$1" in
  bound|renew)
    ip addr flush dev "$interface"; ip addr add "$ip/$mask" dev "$interface"
    for each in $router; do ip route add default via "$each" dev "$interface"; done
    for each in $dns; do echo "nameserver $each" >> /medium/live/run/resolv.conf; done ;;
esac
`;

function makeInitramfs(work, kernel, version) {
  const root = path.join(work, 'initramfs.d');
  for (const below of ['bin', 'dev', 'proc', 'sys', 'medium', 'tmp', 'etc']) mkdirSync(path.join(root, below), { recursive: true });
  copyFileSync(where('busybox'), path.join(root, 'bin/busybox'));
  chmodSync(path.join(root, 'bin/busybox'), 0o755);
  const from = path.join(kernel.folder, 'lib/modules', kernel.version);
  const to = path.join(root, 'lib/modules', kernel.version);
  mkdirSync(to, { recursive: true });
  for (const one of [...drivers.map((d) => `drivers/${d}`), ...besides])
    if (existsSync(path.join(from, 'kernel', one)))
      cpSync(path.join(from, 'kernel', one), path.join(to, 'kernel', one), {
        recursive: true,
        filter: (file) => !leftOut.test(`${file}/`),
      });
  for (const list of ['modules.order', 'modules.builtin', 'modules.builtin.modinfo'])
    if (existsSync(path.join(from, list))) copyFileSync(path.join(from, list), path.join(to, list));
  sh(`PATH="$PATH:/sbin:/usr/sbin" depmod -b ${root} ${kernel.version}`);
  writeFileSync(path.join(root, 'init'), init(version), { mode: 0o755 });
  writeFileSync(path.join(root, 'udhcpc'), udhcpc, { mode: 0o755 });
  mkdirSync(path.join(work, 'iso/boot/grub'), { recursive: true });
  sh(`find . | cpio -o -H newc --quiet | gzip -6 > ${path.join(work, 'iso/boot/initramfs')}`, root);
}

function copyTo(source, target) {
  mkdirSync(path.dirname(target), { recursive: true });
  if (!existsSync(target)) copyFileSync(realpathSync(source), target);
  chmodSync(target, 0o755);
}

/** Copies the libraries that a program, or a part of one, is linked to. */
function copyLibraries(live, file) {
  for (const [, library] of sh(`ldd ${file} || true`).matchAll(/(\/[^\s]+\.so[^\s]*)/g))
    copyTo(library, path.join(live, 'usr', library.replace(/^\/usr/, '')));
}

function copyProgram(live, file, name = path.basename(file)) {
  copyTo(file, path.join(live, 'usr/bin', name));
  copyLibraries(live, file);
}

/** A package with all that it needs, as npm has put it here. */
function copyPackage(live, name, done = new Set()) {
  const from = path.join('node_modules', name);
  if (done.has(name) || !existsSync(from)) return;
  done.add(name);
  cpSync(from, path.join(live, 'lithodex/node_modules', name), {
    recursive: true,
    dereference: true,
    filter: (file) =>
      !/\.(md|map|ts|mts|cts)$|\/(test|tests|docs|benchmarks?)$/.test(file) &&
      !/\.(cc|hh|c|h|S|inc|asm)$|koffi\/(vendor|doc)\b|koffi\/build\/koffi\/(?!linux_x64)\w/.test(file),
  });
  const { dependencies = {}, optionalDependencies = {} } = JSON.parse(readFileSync(path.join(from, 'package.json'), 'utf8'));
  for (const needed of Object.keys({ ...dependencies, ...optionalDependencies })) copyPackage(live, needed, done);
}

function makeLive(work) {
  const live = path.join(work, 'iso/live');
  for (const below of ['usr/bin', 'usr/lib64', 'dev', 'proc', 'sys', 'tmp', 'run', 'mnt', 'etc', 'lithodex/dist/node'])
    mkdirSync(path.join(live, below), { recursive: true });
  for (const link of ['bin', 'lib', 'lib64']) symlinkSync(`usr/${link}`, path.join(live, link));
  symlinkSync('bin', path.join(live, 'usr/sbin'));
  symlinkSync('/proc/self/mounts', path.join(live, 'etc/mtab'));
  symlinkSync('/run/resolv.conf', path.join(live, 'etc/resolv.conf'));
  copyProgram(live, process.execPath, 'node');
  for (const tool of tools) copyProgram(live, where(tool), tool);
  copyFileSync(where('busybox'), path.join(live, 'usr/bin/busybox'));
  chmodSync(path.join(live, 'usr/bin/busybox'), 0o755);
  for (const applet of ['sh', 'env', 'mount', 'umount', 'sync', 'ls', 'cat']) symlinkSync('busybox', path.join(live, 'usr/bin', applet));
  const needed = new Set();
  const files = ['unit.js'];
  for (const file of files) {
    const text = readFileSync(path.join('dist/node', file), 'utf8');
    copyFileSync(path.join('dist/node', file), path.join(live, 'lithodex/dist/node', file));
    for (const [, from] of text.matchAll(/(?:from\s*|import\(|import\s*)"([^"\0]+)"/g))
      if (from.startsWith('./') && existsSync(path.join('dist/node', from))) {
        const next = path.normalize(from);
        if (!files.includes(next)) files.push(next);
      } else if (/^(@[\w-]+\/)?[\w-]+$/.test(from)) needed.add(from);
  }
  writeFileSync(path.join(live, 'lithodex/package.json'), '{"type":"module"}');
  const done = new Set();
  for (const name of needed) copyPackage(live, name, done);
  for (const part of sh(`find ${path.join(live, 'lithodex/node_modules')} -name '*.node'`)
    .split('\n')
    .filter(Boolean))
    copyLibraries(live, part);
}

const grub = `set timeout=2
serial --unit=0 --speed=115200
terminal_input console serial
terminal_output console serial
menuentry "Recovery" {
  linux /boot/vmlinuz console=tty0 console=ttyS0 quiet
  initrd /boot/initramfs
}
`;

/** Addresses that stay on this host: a machine in software reaches its own by the last. */
const stays = /^http:\/\/(localhost|127(\.\d+){3}|10\.0\.2\.2)(:\d+)?$/;

/** Throws for what no medium can be made with. */
export function checkWanted({ server = '', code = '', name = '', authority, out, kernel = 'standard' }) {
  if (!plain.test(server) || !(server.startsWith('https://') || stays.test(server)))
    throw new Error('medium needs --server, an address that begins with https://');
  if (!plain.test(code)) throw new Error('medium needs --code, which Recover, Units shows under "Let a unit report in"');
  if (name && !/^[A-Za-z0-9][\w.-]{0,79}$/.test(name)) throw new Error('--name has letters, digits, ., - and _');
  if (!Object.hasOwn(kernels, kernel)) throw new Error(`--kernel is one of ${Object.keys(kernels).join(', ')}`);
  if (authority && !existsSync(authority)) throw new Error(`There is no file ${authority}`);
  if (!out) throw new Error('medium needs --out, the file of the image');
}

/** Makes the image. Throws with what is missing or wrong. */
export async function medium(wanted) {
  checkWanted(wanted);
  const { server, code, name = '', authority, out, kernel = 'standard' } = wanted;
  await build(['node']);
  const { version } = JSON.parse(readFileSync('package.json', 'utf8'));
  const work = mkdtempSync(path.join(os.tmpdir(), 'lithodex-medium-'));
  try {
    const own = kernelOf(kernel);
    makeInitramfs(work, own, version);
    copyFileSync(own.image, path.join(work, 'iso/boot/vmlinuz'));
    makeLive(work);
    if (authority) copyFileSync(authority, path.join(work, 'iso/live/lithodex/authority.pem'));
    const settings = { SERVER: server, CODE: code, NAME: name, AUTHORITY: authority ? '/lithodex/authority.pem' : '' };
    const text = Object.entries(settings).map(([key, value]) => `${key}='${value}'\n`);
    writeFileSync(path.join(work, 'iso/settings'), text.join(''));
    writeFileSync(path.join(work, 'iso/boot/grub/grub.cfg'), grub);
    const partial = `${out}.partial`;
    execFileSync('grub-mkrescue', ['-o', partial, path.join(work, 'iso'), '--', '-volid', 'LITHODEX'], {
      stdio: ['ignore', 'ignore', 'pipe'],
    });
    renameSync(partial, out);
    const image = readFileSync(out);
    return { bytes: image.length, sha256: createHash('sha256').update(image).digest('hex'), version, kernel: own.version };
  } finally {
    rmSync(work, { recursive: true, force: true });
  }
}

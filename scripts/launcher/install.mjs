// Installs what is missing: Debian packages, npm packages; builds what is stale.
import { execFile, execFileSync, spawnSync } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { createHash } from 'node:crypto';
import path from 'node:path';
import { promisify } from 'node:util';

const say = (text) => process.stderr.write(`${text}\n`);
const has = (command) => existsSync(command) || spawnSync('sh', ['-c', `command -v ${command}`]).status === 0;

/** Debian packages by the command that shows they are there. */
const packages = {
  mariadbd: 'mariadb-server',
  'mariadb-install-db': 'mariadb-server',
  '/usr/lib/postgresql/15/bin/postgres': 'postgresql-15',
  // mail and calendars of the office
  '/usr/sbin/dovecot': 'dovecot-imapd',
  radicale: 'radicale',
  '/usr/share/doc/python3-tz': 'python3-tz',
  // the disks of the machines on the platform stand-in
  sfdisk: 'fdisk',
  'mkfs.ext4': 'e2fsprogs',
  'mkfs.vfat': 'dosfstools',
  mcopy: 'mtools',
  // the text of documents that are looked into
  pdftotext: 'poppler-utils',
  // certificates of what is attached
  openssl: 'openssl',
};
const testPackages = {
  ...packages,
  chromium: 'chromium',
  setfacl: 'acl',
  getfattr: 'attr',
  zstd: 'zstd',
  xz: 'xz-utils',
  'qemu-img': 'qemu-utils',
  nbdcopy: 'libnbd-bin',
  cadaver: 'cadaver',
  smbd: 'samba',
  smbclient: 'smbclient',
  git: 'git',
  '/usr/sbin/slapd': 'slapd',
};

/** What an installation runs with; what single kinds of workload need besides is named by the run that needs it. */
const serverPackages = { openssl: 'openssl', pdftotext: 'poppler-utils', mariadb: 'mariadb-client' };
const databasePackages = { mariadbd: 'mariadb-server', 'mariadb-install-db': 'mariadb-server' };

/** What a recovery medium is made with. */
const mediumPackages = {
  busybox: 'busybox-static',
  cpio: 'cpio',
  depmod: 'kmod',
  sfdisk: 'fdisk',
  mke2fs: 'e2fsprogs',
  'mkfs.vfat': 'dosfstools',
  mformat: 'mtools',
  xorriso: 'xorriso',
  'grub-mkrescue': 'grub-common',
  '/usr/lib/grub/i386-pc': 'grub-pc-bin',
  '/usr/lib/grub/x86_64-efi': 'grub-efi-amd64-bin',
};

/** What tests at length try besides. */
const longPackages = { ...testPackages, clamscan: 'clamav' };

const metalPackages = {
  ...testPackages,
  ...mediumPackages,
  'qemu-system-x86_64': 'qemu-system-x86',
  '/usr/share/OVMF/OVMF_CODE_4M.fd': 'ovmf',
};

async function run(command, args, options = {}) {
  await promisify(execFile)(command, args, { maxBuffer: 1 << 28, ...options }).catch((error) => {
    throw new Error(`${command} ${args.join(' ')} failed:\n${(error.stderr || error.stdout || String(error)).slice(-3000)}`);
  });
}

/** Begins to install what is missing: one waits for the network while the other unpacks. */
export function installing(forTests, forMetal = false) {
  const debian = installDebian(forMetal ? metalPackages : forTests ? testPackages : packages);
  // told to whom waits for it, also where that is later
  debian.catch(() => undefined);
  return { debian, npm: installNpm(forTests) };
}

/** Installs what is missing to make a recovery medium. */
export async function installForMedium() {
  await Promise.all([installDebian(mediumPackages), installNpm(false)]);
}

/** Installs what is missing to run all tests at length. */
export async function installForLong() {
  await Promise.all([installDebian(longPackages), installNpm(true)]);
}

/** Installs what is missing to run an installation, with a database server where it has its own. */
export async function installForServer(ownDatabase) {
  await Promise.all([installDebian({ ...serverPackages, ...(ownDatabase && databasePackages) }), installNpm(false)]);
}

/** Installs what is missing. */
export async function install(forTests, forMetal = false) {
  const { debian, npm } = installing(forTests, forMetal);
  await Promise.all([debian, npm]);
}

/** The package of PostgreSQL would make and start a server for the system, which nobody here needs; what its owner wants is left as it is. */
function keepServersOff() {
  const folder = '/etc/postgresql-common';
  if (existsSync(folder) || process.getuid() !== 0) return;
  mkdirSync(folder, { recursive: true });
  writeFileSync(path.join(folder, 'createcluster.conf'), 'create_main_cluster = false\n');
}

async function installDebian(from) {
  const wanted = [
    ...new Set(
      Object.entries(from)
        .filter(([command]) => !has(command))
        .map(([, name]) => name),
    ),
  ];
  if (!wanted.length) return;
  say(`Installing ${wanted.join(', ')} …`);
  const env = { ...process.env, DEBIAN_FRONTEND: 'noninteractive' };
  keepServersOff();
  await run('apt-get', ['update'], { env });
  await startingNothing(() => run('apt-get', ['install', '-y', '--no-install-recommends', ...wanted], { env }));
  if (wanted.includes('samba')) spawnSync('systemctl', ['disable', 'smbd', 'nmbd', 'samba-ad-dc'], { stdio: 'ignore' });
}

/** Packages of servers would start them for the whole system, which nobody here needs: Debian asks this file whether they may. */
async function startingNothing(act) {
  const asked = '/usr/sbin/policy-rc.d';
  if (existsSync(asked) || process.getuid() !== 0) return act();
  writeFileSync(asked, '#!/bin/sh\nexit 101\n', { mode: 0o755 });
  try {
    await act();
  } finally {
    rmSync(asked);
  }
}

const hashOf = (file) => createHash('sha256').update(readFileSync(file)).digest('hex');

/** Packages that only tests and checks need are left out where nothing is tested. */
export async function installNpm(forTests = false) {
  const stamp = 'node_modules/.lithodex-lock';
  const lock = hashOf('package-lock.json');
  const [toRun, all] = [`${lock} to run`, lock];
  const there = existsSync(stamp) ? readFileSync(stamp, 'utf8') : '';
  if (there === all || (there === toRun && !forTests)) return;
  say('Installing npm packages …');
  await run('npm', ['ci', ...(forTests ? [] : ['--omit=dev']), '--no-audit', '--no-fund', '--loglevel=error']);
  writeFileSync(stamp, forTests ? all : toRun);
}

function newest(folder, skip) {
  let latest = 0;
  for (const entry of readdirSync(folder, { withFileTypes: true })) {
    if (skip.includes(entry.name)) continue;
    const at = path.join(folder, entry.name);
    latest = Math.max(latest, entry.isDirectory() ? newest(at, skip) : statSync(at).mtimeMs);
  }
  return latest;
}

/** Builds a part whose sources are newer than its stamp, or than that of what is as good. */
async function buildStale(name, folders, build, asGood = name) {
  const stamp = `dist/.built-${name}`;
  const sources = Math.max(
    ...folders.map((folder) => newest(folder, ['node_modules', 'dist', '.angular'])),
    statSync('package-lock.json').mtimeMs,
  );
  if ([stamp, `dist/.built-${asGood}`].some((file) => existsSync(file) && statSync(file).mtimeMs > sources)) return;
  say(`Building ${name} …`);
  const began = Date.now();
  await build();
  mkdirSync('dist', { recursive: true });
  writeFileSync(stamp, new Date(began).toISOString());
}

const nodeFolders = [
  'packages/core',
  'packages/kinds',
  'packages/contract',
  'packages/net',
  'packages/volumes',
  'packages/engine',
  'packages/connectors',
  'packages/mover',
  'packages/cli',
  'packages/reader',
  'packages/server',
  'packages/standins',
  'demo',
  'bench',
  'scripts',
];

const webFolders = ['packages/web', 'packages/core', 'packages/kinds', 'packages/contract'];

/** Builds what is stale. Types are checked with the tests: who only wants to look does not wait for them. */
export async function build(what = ['node', 'web']) {
  if (what.includes('node')) await buildStale('node', nodeFolders, () => run('node', ['scripts/build-node.mjs']));
  const env = { ...process.env, NG_BUILD_PARALLEL_TS: '0' };
  if (what.includes('checked web')) await buildStale('checked-web', webFolders, () => run('node', ['scripts/build-web.mjs'], { env }));
  else if (what.includes('web'))
    await buildStale(
      'web',
      webFolders,
      () => run('node', ['scripts/build-web.mjs'], { env: { ...env, NG_BUILD_TYPE_CHECK: '0' } }),
      'checked-web',
    );
}

/** Files of the project: what git tracks or would; every file below where this is no checkout. */
export function projectFiles() {
  try {
    return execFileSync('git', ['ls-files', '-co', '--exclude-standard'], { encoding: 'utf8', stdio: ['ignore', 'pipe', 'ignore'] })
      .split('\n')
      .filter(Boolean);
  } catch {
    const below = (folder) =>
      readdirSync(folder || '.', { withFileTypes: true })
        .filter((e) => !['node_modules', 'dist', '.angular', '.git', 'state'].includes(e.name))
        .flatMap((e) => (e.isDirectory() ? below(path.join(folder, e.name)) : [path.join(folder, e.name)]));
    return below('');
  }
}

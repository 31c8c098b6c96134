// What an installation is made of: a folder with its settings, its database, what belongs to the server and what to the mover.
import { createHash, randomBytes } from 'node:crypto';
import { chmodSync, chownSync, existsSync, lstatSync, mkdirSync, readdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { ownCertificate, standing } from '../certificate.mjs';
import { freePort, isAlive } from '../mariadb.mjs';

/** Where an installation is unless that is said. */
export const usualState = () =>
  process.getuid() === 0
    ? '/var/lib/lithodex'
    : path.join(process.env.XDG_STATE_HOME ?? path.join(os.homedir(), '.local/state'), 'lithodex');

const usualPort = 8420;

/** The files and folders of an installation. */
export function placesOf(state) {
  const at = (...parts) => path.join(state, ...parts);
  return {
    state,
    settings: at('installation.json'),
    running: at('running'),
    database: at('database'),
    dumps: at('dumps'),
    server: at('server'),
    config: at('server', 'config.json'),
    tls: at('server', 'tls'),
    first: at('server', 'first-address'),
    mover: at('mover'),
    moverToken: at('mover', 'token'),
    keys: at('mover', 'keys'),
    bounds: at('mover', 'mover.json'),
  };
}

/** Writes a file whole or not at all. */
function writeWhole(file, text, mode = 0o600) {
  writeFileSync(`${file}.new`, text, { mode });
  chmodSync(`${file}.new`, mode);
  renameSync(`${file}.new`, file);
}

const json = (value) => `${JSON.stringify(value, null, 2)}\n`;
export const readJson = (file) => JSON.parse(readFileSync(file, 'utf8'));

/** The settings of an installation. Throws where there is none. */
export function settingsOf(state) {
  const { settings } = placesOf(state);
  if (!existsSync(settings))
    throw new Error(`There is no installation in ${state}. Make one with "./lithodex start", or say where it is with --state.`);
  return readJson(settings);
}

/** Names by which this host is reached, besides those that are given. */
function namesOf(given) {
  const addresses = Object.values(os.networkInterfaces())
    .flat()
    .filter((a) => !a.internal && !a.address.startsWith('fe80'))
    .map((a) => a.address);
  return [...new Set([...given, os.hostname(), 'localhost', '127.0.0.1', '::1', ...addresses])].slice(0, 60);
}

/** A database elsewhere, as it is named: mariadb://user@host:port/name. Throws where it is none. */
function databaseAt({ database, databasePasswordFile, databaseAuthority }) {
  let url;
  try {
    url = new URL(database);
  } catch {
    throw new Error('--database names one as mariadb://user@host:port/name.');
  }
  const name = url.pathname.slice(1);
  if (!['mariadb:', 'mysql:'].includes(url.protocol) || !url.username || !/^\w{1,64}$/.test(name))
    throw new Error('--database names one as mariadb://user@host:port/name.');
  if (url.password)
    throw new Error('Do not write a password into --database, where others see it: give a file with --database-password-file.');
  const password = databasePasswordFile ? readFileSync(databasePasswordFile, 'utf8').replace(/\r?\n$/, '') : '';
  const local = ['127.0.0.1', 'localhost', '::1'].includes(url.hostname);
  const tls = databaseAuthority ? { authority: path.resolve(databaseAuthority) } : local ? undefined : {};
  return {
    host: url.hostname,
    port: Number(url.port || 3306),
    user: decodeURIComponent(url.username),
    password,
    name,
    ...(tls && { tls }),
  };
}

/** A state folder must be ours, or empty: nothing of others is written over. */
function refuseStrange(state) {
  if (!existsSync(state)) return;
  if (!lstatSync(state).isDirectory()) throw new Error(`${state} is no folder.`);
  const { settings, server, mover, dumps, database } = placesOf(state);
  // one whose making broke off is gone on with
  const own = ['lost+found', ...[server, mover, dumps, database].map((p) => path.basename(p))];
  if (readdirSync(state).some((name) => !own.includes(name)) && !existsSync(settings))
    throw new Error(`${state} holds something that is no installation of Lithodex. Choose an empty folder with --state.`);
}

/** Refuses an installation that somebody runs in the foreground: two would end each other's database. */
export function refuseRunning(state) {
  const { running } = placesOf(state);
  const other = existsSync(running) ? Number(readFileSync(running, 'utf8')) : 0;
  if (other && isAlive(other) && readFileSync(`/proc/${other}/cmdline`, 'latin1').includes('main.mjs'))
    throw new Error(`${state} runs already, as process ${other}.`);
}

/** Whether a port can be had now. */
const isFree = async (port) => (await freePort(port)) === port;

async function firstSettings(asked) {
  const port = asked.port ?? usualPort;
  if (!(await isFree(port))) throw new Error(`Port ${port} is taken. Choose another with --port.`);
  return {
    host: asked.host ?? '0.0.0.0',
    port,
    names: [],
    certificate: 'own',
    database: 'own',
    databasePort: await freePort(8430),
    zone: Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC',
  };
}

/** Numbers of an account of the system; undefined where there is none. */
export function accountIds(name) {
  const line = readFileSync('/etc/passwd', 'utf8')
    .split('\n')
    .find((l) => l.startsWith(`${name}:`));
  return line?.split(':').slice(2, 4).map(Number);
}

/** Notes by what the system starts an installation; undefined: by nothing any more. */
export function markInstalled(state, installed) {
  writeWhole(placesOf(state).settings, json({ ...settingsOf(state), installed }), 0o644);
}

/** An installation as it was opened last, without changing anything of it but a certificate that is due. Throws where there is none. */
export function loadInstallation(state) {
  const settings = settingsOf(state);
  const places = placesOf(state);
  const own = settings.certificate === 'own';
  // only who has the folder renews what is in it
  const mayRenew = own && lstatSync(places.tls).uid === process.getuid();
  const files = mayRenew || !own ? certificateOf(state, settings) : { authority: path.join(places.tls, 'authority.pem') };
  return { places, settings, config: readJson(places.config), files };
}

/** Settings with what was asked now; what was not asked stays. */
function changed(settings, asked) {
  const given = { host: asked.host, port: asked.port, redirectPort: asked.redirectPort, names: asked.names };
  const said = Object.fromEntries(Object.entries(given).filter(([, value]) => value !== undefined));
  const next = { ...settings, ...said };
  if (asked.certificate || asked.key) {
    if (!asked.certificate || !asked.key) throw new Error('--certificate and --key belong together.');
    next.certificate = { certificate: path.resolve(asked.certificate), key: path.resolve(asked.key) };
  }
  if (asked.ownCertificate) next.certificate = 'own';
  if (asked.database) next.database = 'elsewhere';
  return next;
}

/** By what name people and movers reach an installation. */
export function addressOf(settings) {
  const own = settings.certificate === 'own';
  const name = settings.names[0] ?? (own ? os.hostname() : undefined);
  if (name === undefined) throw new Error('Say with --name which name of the certificate people use.');
  const port = settings.port === 443 ? '' : `:${settings.port}`;
  return `https://${name}${port}`;
}

/** How the mover beside the server reaches it. */
export const moverAddress = (settings) => (settings.certificate === 'own' ? `https://127.0.0.1:${settings.port}` : addressOf(settings));

/** The certificate of an installation: its own, made or renewed where that is due, or the one that was given. Throws for one that can not be used. */
export function certificateOf(state, settings) {
  if (settings.certificate === 'own') return ownCertificate(placesOf(state).tls, namesOf(settings.names));
  const { certificate, key } = settings.certificate;
  for (const file of [certificate, key]) if (!existsSync(file)) throw new Error(`${file} is not there.`);
  const now = standing(certificate, settings.names.slice(0, 1));
  if (now.missing.length) throw new Error(`The certificate ${certificate} does not stand for ${now.missing.join(', ')}.`);
  if (now.until < Date.now()) throw new Error(`The certificate ${certificate} ended at ${new Date(now.until).toISOString()}.`);
  return { certificate, key, authority: certificate, renewed: false };
}

/**
 * Opens an installation, making it where there is none yet, and writes down what was asked. Gives its settings, its configuration for the server, its certificate.
 * `owner`: numbers of the account that the server runs as; whoever calls where none is given.
 */
export async function openInstallation(state, asked = {}, owner = undefined) {
  refuseStrange(state);
  const places = placesOf(state);
  const settings = changed(existsSync(places.settings) ? readJson(places.settings) : await firstSettings(asked), asked);
  const before = existsSync(places.config) ? readJson(places.config) : undefined;
  const database =
    settings.database === 'own'
      ? {
          host: '127.0.0.1',
          port: settings.databasePort,
          user: 'lithodex',
          password: before?.database.password ?? randomBytes(24).toString('hex'),
          name: 'lithodex',
        }
      : asked.database
        ? databaseAt(asked)
        : before.database;
  addressOf(settings);
  if (settings.certificate !== 'own') certificateOf(state, settings);
  for (const folder of [state, places.server, places.mover, places.keys, places.dumps])
    mkdirSync(folder, { recursive: true, mode: folder === state ? 0o755 : 0o700 });
  const files = certificateOf(state, settings);
  const config = {
    // what somebody wrote into it by hand stays
    ...before,
    host: settings.host,
    port: settings.port,
    ...(settings.redirectPort && { redirectPort: settings.redirectPort }),
    zone: settings.zone,
    sessionSecret: before?.sessionSecret ?? randomBytes(32).toString('hex'),
    webDir: '',
    logLevel: before?.logLevel ?? 'info',
    database,
    tls: { certificate: files.certificate, key: files.key },
  };
  writeWhole(places.config, json(config));
  // last: what can be started again is whole
  writeWhole(places.settings, json(settings), 0o644);
  if (owner) for (const folder of [places.server, places.dumps]) giveTo(folder, owner);
  if (!existsSync(places.bounds))
    writeFileSync(places.bounds, json({ write: ['/', state], never: [places.settings, places.database, places.server, places.dumps] }), {
      mode: 0o600,
    });
  return { places, settings, config, files };
}

/** Gives a folder and what is in it to an account. */
function giveTo(folder, [uid, gid]) {
  chownSync(folder, uid, gid);
  for (const entry of readdirSync(folder, { withFileTypes: true })) {
    const at = path.join(folder, entry.name);
    if (entry.isDirectory()) giveTo(at, [uid, gid]);
    else if (entry.isFile()) chownSync(at, uid, gid);
  }
}

/** A code for the first administrator: its hash goes to the configuration, the address by which it is used to a file beside it. Gives the address. */
export function newFirstCode(places, settings) {
  const code = `lxf_${randomBytes(24).toString('base64url')}`;
  writeWhole(
    places.config,
    json({
      ...readJson(places.config),
      webDir: path.resolve('packages/web/dist/browser'),
      firstCode: createHash('sha256').update(code).digest('hex'),
    }),
  );
  const address = `${addressOf(settings)}/begin?code=${code}`;
  writeWhole(places.first, `${address}\n`);
  return address;
}

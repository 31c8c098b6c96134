// "./lithodex doctor": looks at an installation from the outside, says what is not right and what helps; packs an archive without secrets.
import { spawnSync } from 'node:child_process';
import { cpSync, existsSync, mkdtempSync, readdirSync, readFileSync, rmSync, statfsSync, statSync, writeFileSync } from 'node:fs';
import https from 'node:https';
import os from 'node:os';
import path from 'node:path';
import { standing } from '../certificate.mjs';
import { connect, schemaKnown, schemaThere } from './database.mjs';
import { addressOf, loadInstallation, moverAddress, placesOf, settingsOf } from './state.mjs';

const dayMs = 86_400_000;
const [leastFree, leastShare] = [2e9, 0.05];
const leastNode = [20, 19];
const leastDatabase = [10, 11];
const leastPacket = 64 << 20;
const apartMs = 5000;

const fine = (what, text) => ({ what, level: 'fine', text, remedy: '' });
const look = (what, text, remedy) => ({ what, level: 'look', text, remedy });
const fault = (what, text, remedy) => ({ what, level: 'fault', text, remedy });

const atLeast = (version, least) => {
  const parts = version.split('.').map((p) => Number.parseInt(p, 10));
  for (const [i, wanted] of least.entries()) if (parts[i] !== wanted) return parts[i] > wanted;
  return true;
};

function node() {
  const { node: version } = process.versions;
  return atLeast(version, leastNode) ? fine('Node.js', version) : fault('Node.js', version, `Install ${leastNode.join('.')} or newer.`);
}

function clock() {
  const asked = spawnSync('timedatectl', ['show', '--property=NTPSynchronized', '--value'], { encoding: 'utf8' });
  const said = asked.status === 0 ? asked.stdout.trim() : '';
  const now = new Date().toISOString();
  if (said === 'yes') return fine('Clock', `${now}, set by a time server`);
  if (said === 'no')
    return look(
      'Clock',
      `${now}, set by nobody`,
      'Let the system keep its time (systemd-timesyncd or alike): schedules, codes and locks go by it.',
    );
  return fine('Clock', `${now}; who sets it is not known`);
}

function room({ state }) {
  const { bavail, blocks, bsize } = statfsSync(state);
  const [free, share] = [bavail * bsize, bavail / blocks];
  const text = `${(free / 1e9).toFixed(1)} GB free where ${state} is`;
  return free < leastFree || share < leastShare
    ? fault('Room', text, 'Make room: a database that can not write stops everything.')
    : fine('Room', text);
}

/** Files that hold secrets, and who can read them. */
function modes(places) {
  const keys = existsSync(places.keys) ? readdirSync(places.keys).map((f) => path.join(places.keys, f)) : [];
  const secrets = [
    places.config,
    places.moverToken,
    path.join(places.tls, 'server.key'),
    path.join(places.tls, 'authority.key'),
    ...keys,
  ].filter(existsSync);
  const open = secrets.filter((f) => statSync(f).mode & 0o077);
  return open.length
    ? fault('Secrets', `${open.join(', ')} can be read by others`, `chmod 600 ${open.join(' ')}`)
    : fine('Secrets', `${secrets.length} files, each for its account only`);
}

function certificate({ settings, config }) {
  const names = settings.names;
  const now = standing(config.tls.certificate, names);
  if (!now)
    return fault(
      'Certificate',
      `${config.tls.certificate} is not there`,
      'Name one with --certificate and --key, or take --own-certificate.',
    );
  const days = Math.floor((now.until - Date.now()) / dayMs);
  if (days < 0) return fault('Certificate', `it ended ${-days} days ago`, 'Put a new one in its place: it is taken within half a minute.');
  if (now.missing.length) return look('Certificate', `it does not stand for ${now.missing.join(', ')}`, 'Take one that does.');
  if (days < 14 && settings.certificate !== 'own')
    return look('Certificate', `it ends in ${days} days`, 'Put a new one in its place: it is taken within half a minute.');
  return fine('Certificate', `good for ${days} days more`);
}

/** What the server answers, asked as its mover asks it. */
function asked(address, authority) {
  return new Promise((resolve) => {
    const ca = existsSync(authority) ? readFileSync(authority) : undefined;
    const request = https.get(`${address}/api/v1/session/ways`, { ca, timeout: 5000, agent: false }, (res) => {
      res.resume();
      res.once('end', () => resolve({ status: res.statusCode }));
    });
    request.once('timeout', () => request.destroy(new Error('no answer within 5 s')));
    request.once('error', (error) => resolve({ why: error.message }));
  });
}

async function server({ settings, files }) {
  const { status, why } = await asked(moverAddress(settings), files.authority);
  if (status === 200) return fine('Server', `answers at ${addressOf(settings)}`);
  const remedy = settings.installed ? 'systemctl status lithodex-server; journalctl -u lithodex-server' : 'Start it: ./lithodex start';
  return fault('Server', status ? `answers with ${status}` : why, remedy);
}

function units({ settings }) {
  if (!settings.installed) return [];
  const down = ['lithodex-database', 'lithodex-server', 'lithodex-mover']
    .filter((name) => name !== 'lithodex-database' || settings.database === 'own')
    .filter((name) => spawnSync('systemctl', ['is-active', '--quiet', name]).status !== 0);
  return [
    down.length
      ? fault('Services', `${down.join(', ')} not running`, `systemctl start lithodex.target; journalctl -u ${down[0]}`)
      : fine('Services', 'all run'),
  ];
}

async function database(installation) {
  const { config } = installation;
  let db;
  try {
    db = await connect(config);
  } catch (error) {
    return [fault('Database', error.message, 'Start it: everything waits for it, nothing is lost.')];
  }
  try {
    const [[facts]] = await db.query('SELECT VERSION() AS version, @@max_allowed_packet AS packet, UNIX_TIMESTAMP(NOW(3)) AS now');
    const found = [];
    found.push(
      atLeast(facts.version, leastDatabase)
        ? fine('Database', facts.version)
        : fault('Database', facts.version, `MariaDB ${leastDatabase.join('.')} or newer is needed.`),
    );
    if (facts.packet < leastPacket)
      found.push(look('Database', `max_allowed_packet is ${facts.packet}`, `Set it to ${leastPacket} or more.`));
    const apart = Math.abs(facts.now * 1000 - Date.now());
    if (apart > apartMs)
      found.push(look('Database', `its clock is ${Math.round(apart / 1000)} s apart from this one`, 'Let both be set by a time server.'));
    const [there, known] = [await schemaThere(config), schemaKnown()];
    if (there > known) found.push(fault('Tables', `${there}, newer than this program (${known})`, 'Start the newer version.'));
    else
      found.push(
        there === known
          ? fine('Tables', there)
          : look('Tables', `${there}; this program knows ${known}`, 'They are changed at the next start, after a dump.'),
      );
    const [targets] = await db.query('SELECT name, envelope_at FROM target WHERE retired_to IS NULL').catch(() => [[]]);
    const open = targets.filter((t) => t.envelope_at === null).map((t) => t.name);
    if (open.length)
      found.push(
        look('Key envelopes', `never fetched: ${open.join(', ')}`, 'Fetch them under Storage, and keep them apart from this machine.'),
      );
    else if (targets.length)
      found.push(fine('Key envelopes', `fetched for ${targets.length === 1 ? 'the target' : `all ${targets.length} targets`}`));
    const [[mover]] = await db.query("SELECT MAX(last_used_at) AS seen FROM api_token WHERE role = 'mover'");
    const ago = mover.seen === null ? undefined : Date.now() - Number(mover.seen);
    found.push(
      ago !== undefined && ago < 300_000
        ? fine('Movers', 'heard from within 5 minutes')
        : fault(
            'Movers',
            ago === undefined ? 'none ever came' : `none heard from for ${Math.round(ago / 60_000)} minutes`,
            'Start the one beside the server, or look at its journal.',
          ),
    );
    return found;
  } finally {
    await db.end();
  }
}

/** Looks at everything. Throws where there is no installation. */
export async function examine(state) {
  settingsOf(state);
  const installation = loadInstallation(state);
  const { places } = installation;
  return [
    node(),
    clock(),
    room(places),
    modes(places),
    certificate(installation),
    ...units(installation),
    await server(installation),
    ...(await database(installation)),
  ];
}

const marks = { fine: 'fine ', look: 'LOOK ', fault: 'FAULT' };

/** What was found, in words. */
export const report = (found) =>
  found.map(({ what, level, text, remedy }) => `${marks[level]}  ${what}: ${text}${remedy ? `\n       ${remedy}` : ''}`).join('\n');

/** Packs what helps somebody elsewhere to help: what was found, settings, logs. No secrets, keys or tokens; nothing of what is protected. */
function pack(file, state, found) {
  const folder = mkdtempSync(path.join(os.tmpdir(), 'lithodex-support-'));
  try {
    const places = placesOf(state);
    writeFileSync(path.join(folder, 'found.json'), `${JSON.stringify(found, null, 2)}\n`);
    writeFileSync(
      path.join(folder, 'machine.json'),
      `${JSON.stringify({ node: process.versions, system: os.release(), processors: os.cpus().length, memory: os.totalmem() }, null, 2)}\n`,
    );
    cpSync(places.settings, path.join(folder, 'installation.json'));
    const errors = path.join(places.database, 'error.log');
    if (existsSync(errors)) writeFileSync(path.join(folder, 'database.log'), readFileSync(errors).subarray(-1_000_000));
    for (const unit of ['lithodex-database', 'lithodex-server', 'lithodex-mover']) {
      const journal = spawnSync('journalctl', ['--no-pager', '--lines=2000', '--unit', unit], { encoding: 'utf8' });
      // an address that makes the first administrator opens everything while there is nobody
      if (journal.status === 0) writeFileSync(path.join(folder, `${unit}.log`), journal.stdout.replaceAll(/\blx[a-z]_[\w-]+/g, 'lx?_…'));
    }
    const packed = spawnSync('tar', ['-czf', file, '-C', folder, '.'], { encoding: 'utf8' });
    if (packed.status !== 0) throw new Error(`tar failed: ${packed.stderr}`);
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

/** The command. Gives the exit status: 1 where something is at fault. */
export async function doctor(state, { json, archive }) {
  const found = await examine(state);
  process.stdout.write(`${json ? JSON.stringify(found, null, 2) : report(found)}\n`);
  if (archive) {
    pack(archive, state, found);
    process.stderr.write(`${archive} holds what was found, the settings and logs, and no secrets.\n`);
  }
  return found.some((f) => f.level === 'fault') ? 1 : 0;
}

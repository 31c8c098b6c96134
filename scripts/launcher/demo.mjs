// The demo: MariaDB, the history of Kelmar Harbour on first start, the server and a mover.
import { fork, spawn } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync, chmodSync } from 'node:fs';
import path from 'node:path';
import { zoneByDay } from './harbour-zone.mjs';
import { secretsOf } from './demo-secrets.mjs';
import { keepRunning } from './keep-running.mjs';
import { startDovecot } from './dovecot.mjs';
import { freePort, setDurable, startMariadb } from './mariadb.mjs';
import { startPostgresql } from './postgresql.mjs';
import { startRadicale } from './radicale.mjs';
import { secondSite } from './second-site.mjs';

const say = (text) => process.stderr.write(`${text}\n`);
const signIns = [
  ['eva.vind', 'administrator'],
  ['sten.odda', 'administrator, the second person'],
  ['ole.brygge', 'operator'],
  ['ilse.holm', 'restore clerk, for harbour-office, pilot-rosters and the people of dredging and pilots'],
  ['rune.dam', 'auditor'],
  ['tove.lund', 'operator, by the button of Kelmar Harbour'],
];

/** Settings of the stand-ins, made once: targets remember their addresses. */
async function standinSettings(state, near) {
  const back = (host) => `http://${host}:${near - 1}/api/v1/session/organisation/back`;
  const file = path.join(state, 'standins.json');
  if (!existsSync(file)) {
    const port = await freePort(near);
    const settings = {
      bucket: {
        folder: path.join(state, 'north-bucket'),
        port,
        accessKey: 'kelmar-keeper',
        secretKey: randomBytes(20).toString('hex'),
        buckets: [{ name: 'kelmar-north', lock: true }],
      },
      library: {
        folder: path.join(state, 'vault-library'),
        port: await freePort(port + 1),
        token: randomBytes(20).toString('hex'),
        barcodes: 'KH',
        drives: 2,
        slots: 4,
        loadMs: 150,
        cartridges: ['KH0041', 'KH0042', 'KH0043', 'KH0044', 'KH0045'],
        capacity: 90_000_000,
      },
      platform: {
        folder: path.join(state, 'platform'),
        port: await freePort(port + 2),
        account: 'lithodex',
        password: randomBytes(12).toString('hex'),
      },
      berths: { port: await freePort(port + 6), account: 'lithodex', password: randomBytes(12).toString('hex') },
      tide: { port: await freePort(port + 7), account: 'lithodex', password: randomBytes(12).toString('hex') },
      movers: { port: await freePort(port + 8) },
      berthsReplica: { port: await freePort(port + 9) },
      office: {
        folder: path.join(state, 'office', 'services'),
        domain: 'kelmar-harbour.example',
        port: await freePort(port + 10),
        secret: randomBytes(16).toString('hex'),
      },
      officeMail: { port: await freePort(port + 11) },
      officeCalendars: { port: await freePort(port + 12) },
      surveys: {
        folder: path.join(state, 'surveys'),
        port: await freePort(port + 13),
        accessKey: 'kelmar-surveys',
        secretKey: randomBytes(20).toString('hex'),
        buckets: ['sonar-surveys'],
      },
      jetty: { folder: path.join(state, 'clusters', 'jetty'), port: await freePort(port + 14), token: randomBytes(20).toString('hex') },
      skerry: { folder: path.join(state, 'clusters', 'skerry'), port: await freePort(port + 15), token: randomBytes(20).toString('hex') },
      skyfjord: {
        folder: path.join(state, 'skyfjord'),
        port: await freePort(port + 16),
        client: 'kelmar-harbour',
        secret: randomBytes(20).toString('hex'),
      },
      mail: { folder: path.join(state, 'mail'), port: await freePort(port + 3), smtpPort: await freePort(port + 4) },
      organisation: {
        port: await freePort(port + 5),
        clientId: 'lithodex',
        clientSecret: randomBytes(20).toString('hex'),
        redirects: [back('127.0.0.1'), back('localhost')],
        members: [
          { name: 'tove.lund', display: 'Tove Lund', password: 'lanterns-at-dusk', groups: ['backup-operators'] },
          { name: 'arne.moe', display: 'Arne Moe', password: 'lanterns-at-dusk', groups: ['harbour-staff'] },
        ],
      },
    };
    writeFileSync(file, JSON.stringify(settings, null, 2), { mode: 0o600 });
  }
  for (const [name, { port }] of Object.entries(JSON.parse(readFileSync(file, 'utf8'))))
    if ((await freePort(port)) !== port) say(`Port ${port} is taken, so the ${name} of the stand-ins can not be reached in this run.`);
  return file;
}

/** Starts a process that says when it is ready. */
async function startChild(children, script, args, name) {
  const child = fork(script, args, { stdio: ['ignore', 'inherit', 'inherit', 'ipc'], detached: true });
  children.push(child);
  await new Promise((resolve, reject) => {
    child.once('message', resolve);
    child.once('exit', () => reject(new Error(`${name} did not start.`)));
  });
  return child;
}

/** A process with all that it started, to be ended together. It has to be the first of its group. */
function wholeGroup(child) {
  return {
    kill(signal) {
      try {
        process.kill(-child.pid, signal);
      } catch {
        /* gone already */
      }
    },
    get exitCode() {
      return child.exitCode;
    },
    get signalCode() {
      return child.signalCode;
    },
    once: (...a) => child.once(...a),
  };
}

function ended(child) {
  return child.exitCode !== null || child.signalCode !== null ? Promise.resolve() : new Promise((resume) => child.once('exit', resume));
}

export async function demo({ port, state: given, fresh, second }) {
  const state = path.resolve(given);
  const marker = path.join(state, 'seeded.json');
  // a state of before there were all servers can not go on
  const outdated =
    existsSync(path.join(state, 'standins.json')) && !readFileSync(path.join(state, 'standins.json'), 'utf8').includes('"skyfjord"');
  if (fresh || outdated || (existsSync(state) && !existsSync(marker))) rmSync(state, { recursive: true, force: true });
  mkdirSync(state, { recursive: true });
  chmodSync(state, 0o755);
  const secrets = secretsOf(state);
  const account = { name: 'lithodex', user: 'lithodex', password: secrets.database };
  const database = await startMariadb(path.join(state, 'db'), account);
  let berths;
  let tide;
  let replica;
  let mailboxes;
  let calendars;
  const children = [];
  const kept = [];
  // what is shown is built while the history is lived through, which waits for disks and databases much of the time
  const web = wholeGroup(spawn('nice', [process.execPath, 'scripts/launcher/build-web.mjs'], { stdio: 'inherit', detached: true }));
  let stopping = false;
  const stop = async (code) => {
    if (stopping) return;
    stopping = true;
    web.kill('SIGTERM');
    for (const one of kept.reverse()) await one.stop();
    for (const child of children.reverse()) {
      child.kill('SIGTERM');
      await Promise.race([ended(child), new Promise((resume) => setTimeout(resume, 4000))]);
      if (child.exitCode === null) child.kill('SIGKILL');
    }
    await Promise.all([database.stop(), replica?.stop(), berths?.stop(), tide?.stop(), mailboxes?.stop(), calendars?.stop()]);
    process.exit(code);
  };
  /** Machines of the machine room that were started from the recovery medium; one that became a server is none any more. */
  const startUnits = (address) => {
    const units = path.join(state, 'units');
    for (const name of existsSync(units) ? readdirSync(units) : []) {
      const own = path.join(units, name);
      if (!existsSync(path.join(own, 'token'))) continue;
      const files = ['--token-file', path.join(own, 'token'), '--room', path.join(own, 'unit.json')];
      const args = ['dist/node/unit.js', '--server', address, '--name', name, ...files, '--log-level', 'warn'];
      children.push(wholeGroup(spawn(process.execPath, args, { stdio: 'inherit', detached: true })));
    }
  };
  process.on('SIGINT', () => void stop(0));
  process.on('SIGTERM', () => void stop(0));
  process.on('SIGHUP', () => void stop(0));

  try {
    const chosen = await freePort(port);
    if (chosen !== port) say(`Port ${port} is taken; using ${chosen}.`);
    const config = path.join(state, 'config.json');
    const zone = existsSync(marker) ? JSON.parse(readFileSync(config, 'utf8')).zone : zoneByDay(new Date());
    writeFileSync(
      config,
      JSON.stringify(
        {
          port: chosen,
          zone,
          sessionSecret: secrets.session,
          webDir: path.resolve('packages/web/dist/browser'),
          logLevel: 'warn',
          database: { port: database.port, ...account },
        },
        null,
        2,
      ),
      { mode: 0o600 },
    );
    const standins = await standinSettings(state, chosen + 1);
    const protectedPorts = JSON.parse(readFileSync(standins, 'utf8'));
    // the servers whose databases are protected: with a log of their changes, and a replica
    const keeper = { name: 'keeper', password: protectedPorts.office.secret };
    [berths, replica, tide, mailboxes, calendars] = await Promise.all([
      startMariadb(path.join(state, 'berths-a'), undefined, protectedPorts.berths.port, 11),
      startMariadb(path.join(state, 'berths-b'), undefined, protectedPorts.berthsReplica.port, undefined, [
        '--server-id=12',
        '--read-only',
      ]),
      startPostgresql(path.join(state, 'tide-db'), protectedPorts.tide.port, ['max_slot_wal_keep_size=2GB']),
      startDovecot(path.join(state, 'office', 'mail'), {
        people: {},
        masters: { [keeper.name]: keeper.password },
        port: protectedPorts.officeMail.port,
      }),
      startRadicale(path.join(state, 'office', 'calendars'), { people: {}, keeper, port: protectedPorts.officeCalendars.port }),
    ]);
    await startChild(children, 'dist/node/standins.js', [standins], 'The stand-ins');
    if (!existsSync(marker)) {
      say(`First start: eight weeks of Kelmar Harbour (${zone}) are lived through with the real product. This takes about three minutes.`);
      setDurable(database.socket, false);
      const history = wholeGroup(
        spawn(process.execPath, ['dist/node/demo.js', config, state, standins, berths.socket, tide.socket, replica.socket], {
          stdio: ['ignore', 'inherit', 'inherit'],
          detached: true,
        }),
      );
      children.push(history);
      await ended(history);
      if (stopping) return;
      if (history.exitCode !== 0) throw new Error('The history of the demo could not be made.');
      children.pop();
      setDurable(database.socket, true);
      writeFileSync(marker, JSON.stringify({ at: new Date().toISOString() }));
    }
    await ended(web);
    if (stopping) return;
    if (web.exitCode !== 0) throw new Error('The web application could not be built.');
    const { library, platform, mail } = JSON.parse(readFileSync(standins, 'utf8'));
    const server = keepRunning('The server', ['dist/node/server.js', config], { ready: true, say, detached: true });
    kept.push(server);
    await server.started;
    const address = `http://127.0.0.1:${chosen}`;
    // what the server keeps here is no business of the mover beside it
    const bounds = path.join(state, 'mover.json');
    const told = existsSync(path.join(state, 'room')) ? readdirSync(path.join(state, 'room')) : [];
    const hardware = told.map((file) => [path.resolve(state, 'servers', path.basename(file, '.json')), path.resolve(state, 'room', file)]);
    writeFileSync(
      bounds,
      JSON.stringify(
        {
          write: ['/', state],
          hardware: Object.fromEntries(hardware),
          never: [
            config,
            'db',
            'berths-a',
            'berths-b',
            'tide-db',
            'office',
            'surveys',
            'clusters',
            'skyfjord',
            'room',
            'units',
            'secrets.json',
            'standins.json',
          ].map((f) => path.resolve(state, f)),
        },
        null,
        2,
      ),
    );
    const own = ['--token-file', path.join(state, 'mover-token'), '--keys', path.join(state, 'keys'), '--name', 'quay-mover'];
    const receive = ['--receive', `127.0.0.1:${protectedPorts.movers.port}`];
    const reader = ['--token-file', path.join(state, 'tide-gauge', 'token'), '--name', 'tide-gauge'];
    for (const [name, args] of [
      ['The mover', [...own, ...receive, '--bounds', bounds]],
      ['The mover of the tide gauges', reader],
    ])
      kept.push(keepRunning(name, ['dist/node/mover.js', '--server', address, ...args, '--log-level', 'warn'], { say, detached: true }));
    startUnits(address);
    const keep = (name, args, options) => {
      const one = keepRunning(name, args, { say, detached: true, ...options });
      kept.push(one);
      return one;
    };
    const lighthouse = second && (await secondSite({ state, near: chosen, zone, database, standins, address, keep, say }));
    writeFileSync(path.join(state, 'address'), address);
    say(`\nLithodex is ready ${Math.round(performance.now() / 1000)} s after the start of the command, all included: ${address}\n`);
    for (const [name, role] of signIns) say(`  ${name.padEnd(12)} lanterns-at-dusk   ${role}`);
    say(
      `\nThe library of cartridges can be seen and served at http://127.0.0.1:${library.port},\nthe virtualization platform at http://127.0.0.1:${platform.port},\nand the mail that was sent at http://127.0.0.1:${mail.port}`,
    );
    if (lighthouse) say(`\nThe second site, which follows north-store, is at ${lighthouse}, for the same people.`);
    say('\nCtrl-C stops everything; the data stays for the next start.');
    await new Promise(() => undefined);
  } catch (error) {
    say(error instanceof Error ? error.message : String(error));
    await stop(1);
  }
}

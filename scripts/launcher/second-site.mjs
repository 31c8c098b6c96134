// A second installation for the demo: at the lighthouse station, it follows the store that lies there.
import { spawn } from 'node:child_process';
import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { secretsOf } from './demo-secrets.mjs';
import { freePort, openAccount, removeAccount } from './mariadb.mjs';

/** Ports from that of the first installation on are those of its stand-ins. */
const portsAway = 60;

/**
 * Starts it, and makes it the first time. `keep(name, args, options)` keeps a process running.
 * Gives its address.
 */
export async function secondSite({ state: first, near, zone, database, standins, address, keep, say }) {
  const state = path.join(first, 'second-site');
  const marker = path.join(state, 'seeded.json');
  const made = existsSync(marker);
  if (!made) rmSync(state, { recursive: true, force: true });
  mkdirSync(state, { recursive: true, mode: 0o755 });
  const secrets = secretsOf(state);
  const account = { name: 'lighthouse', user: 'lighthouse', password: secrets.database };
  openAccount(database.socket, account);
  if (!made) {
    // what an earlier attempt left
    removeAccount(database.socket, account);
    openAccount(database.socket, account);
  }
  const port = await freePort(near + portsAway);
  const config = path.join(state, 'config.json');
  const settings = {
    port,
    zone: made ? JSON.parse(readFileSync(config, 'utf8')).zone : zone,
    sessionSecret: secrets.session,
    webDir: path.resolve('packages/web/dist/browser'),
    logLevel: 'warn',
    database: { port: database.port, ...account },
  };
  writeFileSync(config, JSON.stringify(settings, null, 2), { mode: 0o600 });
  if (!made) {
    say('The second site at the lighthouse station is set up …');
    const child = spawn(process.execPath, ['dist/node/second-site.js', config, state, address, standins], {
      stdio: ['ignore', 'inherit', 'inherit'],
    });
    const code = await new Promise((resolve) => child.once('exit', resolve));
    if (code !== 0) throw new Error('The second site could not be made.');
    writeFileSync(marker, JSON.stringify({ at: new Date().toISOString() }));
  }
  const own = `http://127.0.0.1:${port}`;
  await keep('The server of the second site', ['dist/node/server.js', config], { ready: true }).started;
  const files = ['--token-file', path.join(state, 'mover-token'), '--keys', path.join(state, 'keys'), '--name', 'lighthouse-mover'];
  keep('The mover of the second site', ['dist/node/mover.js', '--server', own, ...files, '--log-level', 'warn']);
  // browsers keep what signs somebody in by the host alone, whatever the port
  return `http://localhost:${port}`;
}

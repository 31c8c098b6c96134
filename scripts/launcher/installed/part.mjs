// "./lithodex part": one part of an installation, as systemd starts it.
import { spawnSync } from 'node:child_process';
import { keepDatabase } from './database.mjs';
import { startMover, startServer, tablesThere } from './parts.mjs';
import { certificateOf, loadInstallation } from './state.mjs';

const say = (text) => process.stderr.write(`${text}\n`);
const dayMs = 86_400_000;

const { NOTIFY_SOCKET } = process.env;
// what is started from here has nothing to tell the system
delete process.env.NOTIFY_SOCKET;

/** Tells the system that a part runs. */
function ready() {
  if (NOTIFY_SOCKET) spawnSync('systemd-notify', ['--ready'], { stdio: 'ignore', env: { ...process.env, NOTIFY_SOCKET } });
}

const parts = {
  async database(installation) {
    const database = await keepDatabase(installation, say);
    if (!database) throw new Error('This installation has its database elsewhere.');
    return () => database.stop();
  },
  async server(installation) {
    const { config, settings, places } = installation;
    const server = await startServer(installation, say);
    const renewing = setInterval(() => certificateOf(places.state, settings), dayMs);
    await tablesThere(config);
    return () => {
      clearInterval(renewing);
      return server.stop(30_000);
    };
  },
  async mover(installation) {
    await tablesThere(installation.config);
    const mover = await startMover(installation, say);
    return () => mover.stop(30_000);
  },
};

/** Runs one part until it is told to end. Throws for one that there is not. */
export async function runPart(name, state) {
  if (!Object.hasOwn(parts, name)) throw new Error(`There is no part "${name}"; there are ${Object.keys(parts).join(', ')}.`);
  let end;
  const told = new Promise((resume) => (end = resume));
  for (const signal of ['SIGINT', 'SIGTERM', 'SIGHUP']) process.on(signal, end);
  const stop = await parts[name](loadInstallation(state));
  ready();
  await told;
  await stop();
}

// The parts of an installation: its database, its server, the mover beside it.
import { existsSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import { keepRunning } from '../keep-running.mjs';
import { makeToken } from '../token.mjs';
import { dumpBeforeChange, nobodyYet } from './database.mjs';
import { addressOf, moverAddress, newFirstCode } from './state.mjs';

const pause = (ms) => new Promise((resume) => setTimeout(resume, ms));

/**
 * Starts the server, after its database was dumped where its tables are about to change. While there is nobody, the address for the first administrator is made anew and told.
 * `say`: told in words. Gives what keeps it running.
 */
export async function startServer(installation, say) {
  const { places, settings, config } = installation;
  const dumped = await dumpBeforeChange(installation);
  if (dumped) say(`The tables are changed for this version. What they were is kept in ${dumped}.`);
  const first = newFirstCode(places, settings);
  const server = keepRunning('The server', ['dist/node/server.js', places.config], { ready: true, say, detached: true });
  await server.started;
  if (await nobodyYet(config)) say(`\nMake the first administrator, once, at\n\n  ${first}\n`);
  else rmSync(places.first, { force: true });
  return server;
}

/** Starts the mover beside the server, which gets a token of its own the first time. */
export async function startMover({ places, settings, config, files }, say) {
  if (!existsSync(places.moverToken))
    writeFileSync(places.moverToken, `${await makeToken(config, { role: 'mover', name: 'beside the server' })}\n`, { mode: 0o600 });
  const args = ['--server', moverAddress(settings), '--token-file', places.moverToken, '--keys', places.keys, '--bounds', places.bounds];
  const env = { ...process.env, NODE_EXTRA_CA_CERTS: files.authority };
  return keepRunning('The mover', ['dist/node/mover.js', ...args, '--name', os.hostname(), '--log-level', 'warn'], {
    say,
    env,
    detached: true,
  });
}

/** Waits until the tables of the database are there, as the server makes them. */
export async function tablesThere(config, patienceMs = 600_000) {
  for (const until = Date.now() + patienceMs; ; await pause(500)) {
    try {
      await nobodyYet(config);
      return;
    } catch (error) {
      if (Date.now() > until) throw error;
    }
  }
}

/** Where people go. */
export const toldAddress = ({ settings }) => addressOf(settings);

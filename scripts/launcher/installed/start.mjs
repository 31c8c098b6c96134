// "./lithodex start": a whole installation in the foreground.
import { existsSync, rmSync, writeFileSync } from 'node:fs';
import { keepDatabase } from './database.mjs';
import { startMover, startServer, toldAddress } from './parts.mjs';
import { certificateOf, openInstallation, placesOf, refuseRunning, settingsOf } from './state.mjs';

const say = (text) => process.stderr.write(`${text}\n`);
const dayMs = 86_400_000;

/** Starts an installation, making it where there is none; ends when it is told to. `state`: its folder; `asked`: what was said on the command line. */
export async function start(state, asked) {
  const stops = [];
  let end;
  const told = new Promise((resume) => (end = resume));
  for (const signal of ['SIGINT', 'SIGTERM', 'SIGHUP']) process.on(signal, end);
  try {
    if (existsSync(placesOf(state).settings) && settingsOf(state).installed)
      throw new Error(
        `${state} is started by the system: "systemctl start lithodex.target", or take that away first with "./lithodex remove".`,
      );
    refuseRunning(state);
    const installation = await openInstallation(state, asked);
    writeFileSync(installation.places.running, String(process.pid));
    stops.push(() => rmSync(installation.places.running, { force: true }));
    const database = await keepDatabase(installation, say);
    if (database) stops.push(() => database.stop());
    const server = await startServer(installation, say);
    stops.push(() => server.stop(15_000));
    const mover = await startMover(installation, say);
    stops.push(() => mover.stop(15_000));
    // one of its own is renewed in time; the server takes it by itself
    const renewing = setInterval(() => certificateOf(state, installation.settings), dayMs);
    stops.push(() => clearInterval(renewing));
    say(`Lithodex runs at ${toldAddress(installation)}, its state is in ${state}. Ctrl-C stops it.`);
    if (installation.settings.certificate === 'own')
      say(
        `Its certificate is made by an authority of its own: ${installation.files.authority}. Give that to browsers and to movers elsewhere (--authority), or bring a certificate with --certificate and --key.`,
      );
    await told;
  } finally {
    for (const stop of stops.reverse()) await stop();
  }
}

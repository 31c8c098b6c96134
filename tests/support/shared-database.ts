import fs from 'node:fs';
import { setDurable, startMariadb } from '../../scripts/launcher/mariadb.mjs';
import { sharedSetting } from './database';
import { temporaryFolder } from './nasty-tree';

/** Starts the server of databases that the files of a kind of test share, as each would take seconds to make its own. */
export default async function shareDatabase(): Promise<() => Promise<void>> {
  const folder = temporaryFolder('db');
  fs.chmodSync(folder, 0o755);
  const server = await startMariadb(folder);
  setDurable(server.socket, false);
  process.env[sharedSetting] = server.socket;
  return async () => {
    await server.stop();
    fs.rmSync(folder, { recursive: true, force: true });
  };
}

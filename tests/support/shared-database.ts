import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { setDurable, startMariadb } from '../../scripts/launcher/mariadb.mjs';
import { sharedSetting } from './database';
import { temporaryFolder } from './nasty-tree';

const memory = '/dev/shm';
const begin = 'lithodex-db-';
/** Room that it takes at most, with what else works in memory meanwhile. Bytes. */
const roomWanted = 3e9;
const memoryWanted = 6e9;

function isAlive(pid: number): boolean {
  try {
    process.kill(pid, 0);
    return true;
  } catch {
    return false;
  }
}

/** Removes what runs left in memory that were killed. */
function removeLeftovers(): void {
  for (const name of fs.readdirSync(memory).filter((n) => n.startsWith(begin))) {
    const pid = Number(name.slice(begin.length).split('-')[0]);
    if (Number.isSafeInteger(pid) && pid > 0 && !isAlive(pid)) fs.rmSync(path.join(memory, name), { recursive: true, force: true });
  }
}

/** A folder in memory, where there is room: each file of tests makes all tables anew, and a disk would be waited for at every one of them. */
function quickFolder(): string {
  try {
    const { bavail, bsize } = fs.statfsSync(memory);
    if (bavail * bsize < roomWanted || os.freemem() < memoryWanted) return temporaryFolder('db');
    removeLeftovers();
    return fs.mkdtempSync(path.join(memory, `${begin}${process.pid}-`));
  } catch {
    return temporaryFolder('db');
  }
}

/** Starts the server of databases that the files of a kind of test share, as each would take seconds to make its own. */
export default async function shareDatabase(): Promise<() => Promise<void>> {
  const folder = quickFolder();
  fs.chmodSync(folder, 0o755);
  const server = await startMariadb(folder);
  setDurable(server.socket, false);
  process.env[sharedSetting] = server.socket;
  return async () => {
    await server.stop();
    fs.rmSync(folder, { recursive: true, force: true });
  };
}

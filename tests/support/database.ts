import { randomBytes } from 'node:crypto';
import { openAccount, removeAccount, startMariadb, type Account } from '../../scripts/launcher/mariadb.mjs';

/** Names the socket of the server of databases that tests share. */
export const sharedSetting = 'LITHODEX_TEST_DATABASE';

/** An empty database of one installation. */
export interface TestDatabase {
  readonly settings: Account & { readonly port: number };
  readonly stop: () => Promise<void>;
  /** Stops its server and starts it again; only where the server is its own. */
  readonly restart?: () => Promise<void>;
}

/** An empty database in the server that tests share, or in one of its own below `folder`. */
export async function openTestDatabase(folder: string, ofItsOwn = false): Promise<TestDatabase> {
  const socket = process.env[sharedSetting];
  const name = `lithodex_${randomBytes(6).toString('hex')}`;
  const account = { name, user: name, password: randomBytes(16).toString('hex') };
  if (socket && !ofItsOwn)
    return {
      settings: { port: openAccount(socket, account), ...account },
      stop() {
        removeAccount(socket, account);
        return Promise.resolve();
      },
    };
  const start = (port?: number) => startMariadb(`${folder}/db`, account, port);
  let server = await start();
  return {
    settings: { port: server.port, ...account },
    stop: () => server.stop(),
    async restart() {
      await server.stop();
      server = await start(server.port);
    },
  };
}

import { spawn, spawnSync, type ChildProcess } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { closeSync, mkdirSync, openSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import net from 'node:net';
import path from 'node:path';
import { setTimeout as pause } from 'node:timers/promises';
import type { DatabaseServer } from '@lithodex/kinds';
import { FreshData } from '../fresh-data';
import { SourceError } from '../../source-error';
import type { Scratch } from '../family';
import { MariadbConnection } from './connection';
import { ownFolder } from '../../own-folder';

const account = 'scratch';
const startMs = 60_000;
const stopMs = 20_000;

const failed = (why: string) => new SourceError('SCRATCH_FAILED', why);

function freePort(): Promise<number> {
  return new Promise((resolve, reject) => {
    const server = net.createServer();
    server.once('error', reject);
    server.listen(0, '127.0.0.1', () => {
      const { port } = server.address() as net.AddressInfo;
      server.close(() => {
        resolve(port);
      });
    });
  });
}

/** A MariaDB server of the mover's own, in a folder of its own and with a password nobody else knows: a past second is made there, never on a server that is used. */
export class ScratchServer implements Scratch {
  private constructor(
    private readonly folder: string,
    readonly process: ChildProcess,
    readonly server: DatabaseServer,
  ) {}

  /** Makes and starts one. Throws SourceError. */
  static async start(): Promise<ScratchServer> {
    const folder = ownFolder('scratch');
    try {
      return await ScratchServer.startIn(folder);
    } catch (error) {
      rmSync(folder, { recursive: true, force: true });
      throw error;
    }
  }

  private static async startIn(folder: string): Promise<ScratchServer> {
    const data = path.join(folder, 'data');
    mkdirSync(path.join(folder, 'tmp'), { mode: 0o700 });
    const user = process.getuid?.() === 0 ? ['--user=root'] : [];
    const small = ['--innodb-log-file-size=16M', '--innodb-data-file-path=ibdata1:12M:autoextend'];
    const install = [
      '--no-defaults',
      ...user,
      '--auth-root-authentication-method=normal',
      '--skip-test-db',
      '--skip-name-resolve',
      ...small,
    ];
    const fresh = FreshData.of('mariadbd', install);
    if (!fresh.copyTo(data)) {
      const made = spawnSync('mariadb-install-db', [...install, `--datadir=${data}`], {
        encoding: 'utf8',
        env: { ...process.env, TMPDIR: path.join(folder, 'tmp') },
      });
      if (made.error) throw new SourceError('PROGRAM_MISSING', 'mariadb-install-db');
      if (made.status !== 0) throw failed((made.stderr || made.stdout).slice(-300).replaceAll('\n', ' '));
      fresh.keep(data);
    }
    const password = randomBytes(24).toString('base64url');
    const init = path.join(folder, 'init.sql');
    const who = `'${account}'@'127.0.0.1'`;
    // a statement a line
    const statements = [
      "DELETE FROM mysql.global_priv WHERE user IN ('', 'root')",
      'FLUSH PRIVILEGES',
      `CREATE USER ${who} IDENTIFIED BY '${password}'`,
      `GRANT ALL PRIVILEGES ON *.* TO ${who} WITH GRANT OPTION`,
    ];
    writeFileSync(init, statements.map((sql) => `${sql};\n`).join(''), { mode: 0o600 });
    const port = await freePort();
    const log = openSync(path.join(folder, 'log'), 'a');
    const child = spawn(
      // it ends with the mover, however that ends
      'setpriv',
      [
        '--pdeathsig=KILL',
        '--',
        'mariadbd',
        '--no-defaults',
        ...user,
        `--datadir=${data}`,
        `--tmpdir=${path.join(folder, 'tmp')}`,
        `--socket=${path.join(folder, 's.sock')}`,
        `--pid-file=${path.join(folder, 'pid')}`,
        `--init-file=${init}`,
        '--bind-address=127.0.0.1',
        `--port=${port}`,
        '--skip-name-resolve',
        '--skip-log-bin',
        '--local-infile=0',
        '--event-scheduler=OFF',
        '--innodb-flush-log-at-trx-commit=0',
        '--innodb-doublewrite=0',
        '--innodb-buffer-pool-size=256M',
        '--max-allowed-packet=1G',
        '--character-set-server=utf8mb4',
        ...small,
      ],
      { stdio: ['ignore', log, log] },
    );
    closeSync(log);
    const server: DatabaseServer = {
      kind: 'database',
      family: 'mariadb',
      host: '127.0.0.1',
      port,
      account,
      encrypted: false,
      authority: null,
      id: null,
      password,
    };
    const scratch = new ScratchServer(folder, child, server);
    try {
      await scratch.ready();
    } catch (error) {
      fresh.forget();
      await scratch.stop();
      throw error;
    }
    return scratch;
  }

  private async ready(): Promise<void> {
    let gone = false;
    this.process.once('error', () => (gone = true)).once('exit', () => (gone = true));
    for (const until = Date.now() + startMs; ;) {
      try {
        const connection = await MariadbConnection.open(this.server);
        await connection.close();
        return;
      } catch (error) {
        if (error instanceof SourceError && error.code !== 'DATABASE_AWAY') throw error;
        if (gone || Date.now() > until) throw failed(readFileSync(path.join(this.folder, 'log'), 'utf8').slice(-300).replaceAll('\n', ' '));
        await pause(100);
      }
    }
  }

  /** Stops it and removes everything of it. */
  async stop(): Promise<void> {
    const { process: child } = this;
    const isGone = () => child.exitCode !== null || child.signalCode !== null || child.pid === undefined;
    // nothing of it is needed any more, so it need not write anything down
    child.kill('SIGKILL');
    for (const until = Date.now() + stopMs; !isGone() && Date.now() < until;) await pause(20);
    rmSync(this.folder, { recursive: true, force: true });
  }
}

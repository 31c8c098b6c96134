import { spawn, spawnSync, type ChildProcess } from 'node:child_process';
import { chownSync, closeSync, mkdirSync, openSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { setTimeout as pause } from 'node:timers/promises';
import { EngineError } from '@lithodex/engine';
import type { DatabaseServer } from '@lithodex/kinds';
import { FreshData } from '../fresh-data';
import { SourceError } from '../../source-error';
import { ClientProgram } from '../client-program';
import type { Scratch } from '../family';
import { ownFolder } from '../../own-folder';
import { PgConnection } from './connection';
import { programPath } from './programs';

const port = 5432;
const stopMs = 20_000;
/** Behind a restart of the server, these must not be smaller than where the log was written. */
const asBefore: Readonly<Record<string, string>> = {
  max_connections: 'max_connections setting',
  max_worker_processes: 'max_worker_processes setting',
  max_wal_senders: 'max_wal_senders setting',
  max_prepared_transactions: 'max_prepared_xacts setting',
  max_locks_per_transaction: 'max_locks_per_xact setting',
};
const bare = { PATH: process.env['PATH'], LC_ALL: 'C.UTF-8' };
const endsEarly = 'recovery ended before configured recovery target was reached';

const failed = (why: string) => new SourceError('SCRATCH_FAILED', why);

/** The account that a server of ours runs as: it refuses to run as root. */
function accountOf(): { readonly uid: number; readonly gid: number } | undefined {
  if (process.getuid?.() !== 0) return undefined;
  const lines = readFileSync('/etc/passwd', 'utf8').split('\n');
  const line = ['postgres', 'nobody'].map((name) => lines.find((l) => l.startsWith(`${name}:`))).find((l) => l !== undefined);
  if (!line) throw failed('the host of the mover has no account that a server could run as');
  const [, , uid, gid] = line.split(':');
  return { uid: Number(uid), gid: Number(gid) };
}

/** Where recovery ends: at a moment, right before a place in the log, or with the log. */
export type RecoveryTarget = { readonly time: number } | { readonly before: string } | undefined;

/** A PostgreSQL server of the mover's own, made of copied files: only who owns its folder reaches it. */
export class ScratchServer implements Scratch {
  private child: ChildProcess | undefined;

  private constructor(
    private readonly folder: string,
    private readonly owner: { readonly uid: number; readonly gid: number } | undefined,
    readonly server: DatabaseServer,
  ) {}

  /** Makes its folder. `account`: the one that the server was born with. */
  static make(account: string): ScratchServer {
    const folder = ownFolder('scratch');
    const owner = accountOf();
    for (const name of ['data', 'wal', 'socket']) {
      mkdirSync(path.join(folder, name), { mode: 0o700 });
      if (owner) chownSync(path.join(folder, name), owner.uid, owner.gid);
    }
    if (owner) chownSync(folder, owner.uid, owner.gid);
    const server: DatabaseServer = {
      kind: 'database',
      family: 'postgresql',
      host: path.join(folder, 'socket'),
      port,
      account,
      encrypted: false,
      authority: null,
      id: null,
      password: '-',
    };
    return new ScratchServer(folder, owner, server);
  }

  /** The server once it was started. */
  get process(): ChildProcess {
    if (!this.child) throw failed('it was not started');
    return this.child;
  }

  /** Makes and starts an empty one. Throws SourceError. */
  static async start(): Promise<ScratchServer> {
    const scratch = ScratchServer.make('scratch');
    try {
      const args = ['--username=scratch', '--auth=trust', '--encoding=UTF8', '--locale=C.UTF-8', '--no-sync', '--no-instructions'];
      const program = programPath('initdb');
      const fresh = FreshData.of(program, [...args, String(scratch.owner?.uid)]);
      rmSync(scratch.data, { recursive: true, force: true });
      if (!fresh.copyTo(scratch.data)) {
        const whole = scratch.asOwner(program, [...args, '-D', scratch.data]);
        const made = spawnSync('setpriv', whole, { encoding: 'utf8', cwd: '/', env: bare });
        if (made.error) throw new SourceError('PROGRAM_MISSING', 'initdb');
        if (made.status !== 0) throw failed((made.stderr || made.stdout).slice(-300).replaceAll('\n', ' '));
        fresh.keep(scratch.data);
      }
      const said = await scratch.run({}, 'new', () => false);
      if (said !== undefined) {
        fresh.forget();
        throw failed(said);
      }
      return scratch;
    } catch (error) {
      await scratch.stop();
      throw error;
    }
  }

  /** Where segments of the log are put. */
  get wal(): string {
    return path.join(this.folder, 'wal');
  }

  private get data(): string {
    return path.join(this.folder, 'data');
  }

  /** A command as the account that the server runs as; it ends with the mover, however that ends. */
  private asOwner(program: string, args: readonly string[]): string[] {
    const { owner } = this;
    const who = owner ? [`--reuid=${owner.uid}`, `--regid=${owner.gid}`, '--clear-groups'] : [];
    return [...who, '--pdeathsig=KILL', '--', program, ...args];
  }

  /** Puts the copied files there. Throws SourceError. */
  async unpack(archive: AsyncIterable<Buffer>, moved: (bytes: number) => void, stopped: () => boolean): Promise<void> {
    const args = ['--extract', '--file=-', `--directory=${this.data}`, '--no-same-owner', '--no-same-permissions'];
    const program = ClientProgram.start('setpriv', this.asOwner('tar', args), { files: [] });
    try {
      for await (const part of archive) {
        if (stopped()) throw new EngineError('STOPPED');
        if (program.closed) break;
        await program.write(part);
        moved(part.length);
      }
      await program.end();
    } catch (error) {
      program.kill();
      throw error;
    }
    const own = (name: string, text: string) => {
      rmSync(path.join(this.data, name), { force: true });
      writeFileSync(path.join(this.data, name), text, { mode: 0o600 });
      if (this.owner) chownSync(path.join(this.data, name), this.owner.uid, this.owner.gid);
    };
    // how the server was set up there does not matter here, and who may sign in is another question
    own('postgresql.conf', '');
    own('postgresql.auto.conf', '');
    own('pg_ident.conf', '');
    own('pg_hba.conf', 'local all all trust\n');
    own('recovery.signal', '');
    rmSync(path.join(this.data, 'standby.signal'), { force: true });
  }

  /** Starts it, and lets it read its log up to where that is wanted. Throws SourceError. */
  async recover(target: RecoveryTarget, stopped: () => boolean): Promise<void> {
    const said = await this.attempt(target, stopped);
    if (said === undefined) return;
    // nothing was committed behind that moment: the log ends there
    if (target && 'time' in target && said.includes(endsEarly)) {
      const again = await this.attempt(undefined, stopped);
      if (again === undefined) return;
      throw failed(again);
    }
    if (target && said.includes(endsEarly)) throw new SourceError('LOG_LACKS', 'that commit is not in the log');
    throw failed(said);
  }

  /** What it said when it ended; undefined when it is ready. */
  private async attempt(target: RecoveryTarget, stopped: () => boolean): Promise<string | undefined> {
    const version = readFileSync(path.join(this.data, 'PG_VERSION'), 'utf8').trim();
    const program = programPath('postgres');
    const installed = spawnSync(program, ['--version'], { encoding: 'utf8' });
    if (installed.error) throw new SourceError('PROGRAM_MISSING', 'postgres');
    if (/\d+/.exec(installed.stdout)?.[0] !== version) throw failed(`it takes a server of version ${version} on the host of the mover`);
    const control = spawnSync(programPath('pg_controldata'), [this.data], {
      encoding: 'utf8',
      env: { ...process.env, LC_ALL: 'C' },
    }).stdout;
    const settings: Record<string, string> = {
      archive_mode: 'off',
      shared_preload_libraries: '',
      hot_standby: 'off',
      restore_command: `cp "${this.wal}/%f" "%p"`,
      recovery_target_timeline: 'current',
      recovery_target_action: 'promote',
      logging_collector: 'off',
      log_destination: 'stderr',
      ...(target &&
        'time' in target && { recovery_target_time: `${new Date(target.time).toISOString().replace('T', ' ').replace('Z', '')}+00` }),
      ...(target && 'before' in target && { recovery_target_lsn: target.before, recovery_target_inclusive: 'off' }),
    };
    for (const [name, words] of Object.entries(asBefore)) {
      const known = new RegExp(`^${words}:\\s*(\\d+)`, 'm').exec(control)?.[1];
      if (known) settings[name] = known;
    }
    return this.run(settings, target ? 'wanted' : 'end', stopped);
  }

  /** Starts it. What it said when it ended; undefined when it is ready. */
  private async run(more: Readonly<Record<string, string>>, name: string, stopped: () => boolean): Promise<string | undefined> {
    const settings = {
      listen_addresses: '',
      port: String(port),
      unix_socket_directories: path.join(this.folder, 'socket'),
      fsync: 'off',
      full_page_writes: 'off',
      autovacuum: 'off',
      shared_buffers: '64MB',
      ...more,
    };
    const log = path.join(this.folder, `log-${name}`);
    const out = openSync(log, 'w', 0o600);
    const args = ['-D', this.data, ...Object.entries(settings).flatMap(([setting, value]) => ['-c', `${setting}=${value}`])];
    const child = spawn('setpriv', this.asOwner(programPath('postgres'), args), { stdio: ['ignore', out, out], cwd: '/', env: bare });
    closeSync(out);
    this.child = child;
    let gone = false;
    child.once('error', () => (gone = true)).once('exit', () => (gone = true));
    const lastWords = () =>
      readFileSync(log, 'utf8')
        .split('\n')
        .filter((l) => /FATAL|PANIC|ERROR/.test(l))
        .join(' ')
        .slice(-400) || 'it ended without a word';
    for (;;) {
      if (stopped()) throw new EngineError('STOPPED');
      if (gone) return lastWords();
      try {
        const c = await PgConnection.open(this.server);
        try {
          if (!(await c.row<{ r: boolean }>('SELECT pg_is_in_recovery() AS r'))!.r) return undefined;
        } finally {
          await c.close();
        }
      } catch (error) {
        if (error instanceof SourceError && error.code !== 'DATABASE_AWAY') throw error;
      }
      await pause(100);
    }
  }

  /** Stops it and removes everything of it. */
  async stop(): Promise<void> {
    const { child } = this;
    const isGone = () => child?.pid === undefined || child.exitCode !== null || child.signalCode !== null;
    // at once: nothing of it is needed any more
    child?.kill('SIGQUIT');
    for (const until = Date.now() + stopMs; !isGone() && Date.now() < until;) await pause(20);
    if (!isGone()) child?.kill('SIGKILL');
    rmSync(this.folder, { recursive: true, force: true });
  }
}

import { fork, spawn, type ChildProcess } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { routes, type Answered, type BodyInput, type QueryInput, type Role, type RouteName, type RunDetail } from '@lithodex/contract';
import { appendAudit, Config, hashPassword, issueToken, runServer, type Clock, type RunningServer } from '@lithodex/server';
import { openTestDatabase, type TestDatabase } from './database';
import { temporaryFolder } from './nasty-tree';

export const passwords: Record<Role, string> = {
  administrator: 'correct horse administrator',
  operator: 'correct horse operator',
  clerk: 'correct horse clerk',
  auditor: 'correct horse auditor',
};

/** These passwords are typed hundreds of times by the tests. */
const quickToTry = { N: 2 ** 10, r: 8, p: 1 };

/** Between two looks at what goes on: what takes long is looked at seldom, as looking takes of the processors it works with. */
const pollPause = (began: number) => new Promise((resume) => setTimeout(resume, Math.min(300, Math.max(40, (Date.now() - began) / 8))));

/** A call that the API refused. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    message: string,
    readonly details: unknown,
  ) {
    super(`${status} ${code}: ${message}`);
  }
}

export interface CallOptions<N extends RouteName> {
  readonly body?: BodyInput<N>;
  readonly query?: QueryInput<N>;
  readonly id?: number | string;
}

/** A person's (or token's) view of the API. */
export class Client {
  private cookie = '';
  private csrf = '';
  constructor(
    private readonly base: () => string,
    readonly token?: string,
  ) {}

  async signIn(name: string, password: string): Promise<Answered<'me'>> {
    const me = await this.call('signIn', { body: { name, password } });
    if ('step' in me) throw new Error(`signing in goes on with ${me.step}`);
    this.csrf = me.csrf;
    return me;
  }

  /** Signs in for oneself only. */
  async enter(body: BodyInput<'ownSession'>): Promise<Answered<'ownSession'>> {
    const own = await this.call('ownSession', { body });
    this.csrf = own.csrf;
    return own;
  }

  /** Goes on with the cookie of another. */
  useCookie(cookie: string): void {
    this.cookie = cookie;
  }

  async fetch(
    name: RouteName,
    options: { body?: unknown; query?: object; id?: number | string; headers?: Record<string, string>; signal?: AbortSignal } = {},
  ): Promise<Response> {
    const route = routes[name];
    const url = new URL(`${this.base()}/api/v1${route.path.replace(':id', encodeURIComponent(String(options.id ?? '')))}`);
    for (const [key, value] of Object.entries(options.query ?? {}))
      if (value !== undefined) url.searchParams.set(key, typeof value === 'object' ? JSON.stringify(value) : String(value));
    const response = await fetch(url, {
      method: route.method.toUpperCase(),
      headers: {
        'content-type': 'application/json',
        ...(this.token ? { authorization: `Bearer ${this.token}` } : { cookie: this.cookie, 'x-lithodex-csrf': this.csrf }),
        ...options.headers,
      },
      ...(options.signal && { signal: options.signal }),
      ...(options.body !== undefined && { body: typeof options.body === 'string' ? options.body : JSON.stringify(options.body) }),
    });
    const cookie = response.headers.getSetCookie()[0];
    if (cookie) this.cookie = cookie.split(';')[0]!;
    return response;
  }

  async call<N extends RouteName>(name: N, options: CallOptions<N> = {}): Promise<Answered<N>> {
    const response = await this.fetch(name, options as { body?: unknown });
    const answer = (await response.json()) as Record<string, unknown>;
    if (!response.ok) throw new Refused(response.status, String(answer['code']), String(answer['message']), answer['details']);
    return answer as Answered<N>;
  }

  /** What is waiting and running, in words. */
  private async open(): Promise<string> {
    const { rows } = await this.call('listRuns', { query: { states: 'waiting,running', limit: 20 } });
    const runs = await Promise.all(rows.map(({ id }) => this.call('getRun', { id })));
    return runs
      .map((r) => `${r.kind} ${r.id} ${JSON.stringify(r.tasks.map(({ state, mover, attempt }) => [state, mover, attempt]))}`)
      .join(', ');
  }

  /** Waits until a run has ended. */
  async ended(runId: number, timeoutMs = 120_000): Promise<RunDetail> {
    const began = Date.now();
    for (;;) {
      const run = await this.call('getRun', { id: runId });
      if (run.state !== 'waiting' && run.state !== 'running') return run;
      if (Date.now() > began + timeoutMs) throw new Error(`run ${runId} is still ${run.state}; ${await this.open()}`);
      await pollPause(began);
    }
  }
}

export interface HarnessOptions {
  readonly clock?: Clock;
  readonly leaseMs?: number;
  /** How long a mover that asks for work waits for it. */
  readonly claimWaitMs?: number;
  readonly webDir?: string;
  readonly movers?: number;
  /** Time between the scheduler's rounds; 0 leaves them to the test. */
  readonly schedulerMs?: number;
  /** Movers may run what lies in the folder `scripts`. */
  readonly scripts?: boolean;
  /** Targets are pruned and verified by themselves; not so unless a test is about that. */
  readonly targetCare?: boolean;
  /** The server of the database is the test's own, to be stopped by it. */
  readonly ownDatabase?: boolean;
}

/** A whole installation in a temporary folder: MariaDB, server, movers, one person per role. */
export class Harness {
  readonly folder = temporaryFolder('api');
  private readonly secret = randomBytes(32).toString('hex');
  private db!: TestDatabase;
  server!: RunningServer;
  private moverToken = '';
  readonly movers = new Map<string, ChildProcess>();
  private port = 0;

  private constructor(private readonly options: HarnessOptions) {}

  static async start(options: HarnessOptions = {}): Promise<Harness> {
    const h = new Harness(options);
    fs.chmodSync(h.folder, 0o755);
    if (options.scripts) fs.mkdirSync(`${h.folder}/scripts`, { mode: 0o755 });
    h.db = await openTestDatabase(h.folder, options.ownDatabase);
    await h.startServer();
    const { deps } = h.server;
    // a second factor is asked for by the tests that are about it
    await deps.db('setting').where({ name: 'sign-in' }).delete();
    for (const [role, password] of Object.entries(passwords))
      await deps.db('person').insert({
        name: role,
        display: role,
        role,
        password_hash: await hashPassword(password, quickToTry),
        remit: role === 'clerk' ? JSON.stringify([]) : null,
        created_at: Date.now(),
      });
    await deps.db.transaction((trx) =>
      appendAudit(trx, Date.now(), { actor: 'setup', action: 'installation.start', object: 'installation' }),
    );
    h.moverToken = await issueToken(deps, 'mover', 'mover', 'setup');
    fs.writeFileSync(`${h.folder}/mover-token`, h.moverToken);
    for (let i = 0; i < (options.movers ?? 1); i++) h.startMover(`mover-${i + 1}`);
    return h;
  }

  get base(): string {
    return `http://127.0.0.1:${this.port}`;
  }

  config(port = this.port): Config {
    return Config.parse({
      port,
      zone: 'Europe/Oslo',
      sessionSecret: this.secret,
      webDir: this.options.webDir ?? `${this.folder}/no-web`,
      database: this.db.settings,
      leaseMs: this.options.leaseMs ?? 3000,
      ...(this.options.claimWaitMs !== undefined && { claimWaitMs: this.options.claimWaitMs }),
      schedulerMs: this.options.schedulerMs ?? 300,
      targetCare: this.options.targetCare ?? false,
      logLevel: process.env['LITHODEX_LOG'] ?? 'silent',
    });
  }

  async startServer(): Promise<void> {
    this.server = await runServer(this.config(), this.options.clock);
    this.port = this.server.port;
  }

  /** `own`: folder with a token, keys and bounds of its own; `receive`: port, or address, at which movers that only read reach it. */
  startMover(name: string, { own, receive }: { readonly own?: string; readonly receive?: number | string } = {}): ChildProcess {
    const child = spawn(
      process.execPath,
      [
        // two processors are shared by many movers here: clearing up in parallel would only cost more
        '--single-threaded-gc',
        'dist/node/mover.js',
        '--server',
        this.base,
        '--token-file',
        own ? `${own}/token` : `${this.folder}/mover-token`,
        ...(own ? [] : ['--keys', `${this.folder}/keys`]),
        ...(receive ? ['--receive', typeof receive === 'string' ? receive : `127.0.0.1:${receive}`] : []),
        '--name',
        name,
        ...(this.options.scripts ? ['--scripts', `${this.folder}/scripts`] : []),
        '--log-level',
        process.env['LITHODEX_LOG'] ?? 'silent',
      ],
      { stdio: ['ignore', 'inherit', 'inherit'] },
    );
    this.movers.set(name, child);
    return child;
  }

  /** A mover that only reads: it joins by a code, and keeps its token in a folder of its own, beside what its host allows it. */
  async joinReader(admin: Client, name: string, bounds?: object): Promise<string> {
    const own = `${this.folder}/${name}`;
    fs.mkdirSync(own, { mode: 0o700 });
    const { code } = await admin.call('inviteMover', { body: { duties: ['capture'], systems: null } });
    const { token } = await admin.call('joinMover', { body: { code, mover: name } });
    fs.writeFileSync(`${own}/token`, token, { mode: 0o600 });
    if (bounds) fs.writeFileSync(`${own}/mover.json`, JSON.stringify(bounds));
    this.startMover(name, { own });
    return own;
  }

  private process: ChildProcess | undefined;

  /** Moves the server into a process of its own (on the same port), so that it can be killed. */
  async detachServer(): Promise<void> {
    if (!this.process) await this.server.close();
    const file = `${this.folder}/config.json`;
    fs.writeFileSync(file, JSON.stringify(this.config()));
    const child = fork('dist/node/server.js', [file], { stdio: ['ignore', 'inherit', 'inherit', 'ipc'] });
    this.process = child;
    await new Promise((resolve, reject) => {
      child.once('message', resolve);
      child.once('exit', () => {
        reject(new Error('the server process ended'));
      });
    });
  }

  /** Kills the server process at once. */
  async killServer(): Promise<void> {
    const child = this.process;
    if (child?.exitCode !== null || child.signalCode !== null) return;
    const gone = new Promise((resume) => child.once('exit', resume));
    child.kill('SIGKILL');
    await gone;
  }

  /** Kills a mover at once, as a power cut would. */
  async killMover(name: string): Promise<void> {
    const child = this.movers.get(name);
    if (child?.exitCode !== null || child.signalCode !== null) return;
    const gone = new Promise((resume) => child.once('exit', resume));
    child.kill('SIGKILL');
    await gone;
  }

  async restartDatabase(): Promise<void> {
    await this.db.restart!();
  }

  async as(role: Role): Promise<Client> {
    const client = new Client(() => this.base);
    await client.signIn(role, passwords[role]);
    return client;
  }

  /** A client with a fresh token. */
  async withToken(role: Role | 'mover'): Promise<Client> {
    return new Client(
      () => this.base,
      role === 'mover' ? this.moverToken : await issueToken(this.server.deps, `test ${role}`, role, 'setup'),
    );
  }

  private secondAdministrator: Client | undefined;

  /** A second administrator, whose account is old enough to agree to what the first asks for. */
  async second(): Promise<Client> {
    if (!this.secondAdministrator) {
      const { db } = this.server.deps;
      const [first] = await db('person').where({ name: 'administrator' }).select<Record<string, unknown>[]>();
      await db('person').insert({ ...first, id: undefined, name: 'second', display: 'second', created_at: 0 });
      this.secondAdministrator = new Client(() => this.base);
      await this.secondAdministrator.signIn('second', passwords.administrator);
    }
    return this.secondAdministrator;
  }

  /** The second administrator agrees to a request; nothing where none was needed. */
  async agree({ request }: { readonly request: number | null }): Promise<void> {
    if (request !== null) await (await this.second()).call('agreeRequest', { id: request });
  }

  /** Waits until a mover answers questions. */
  async moverReady(): Promise<void> {
    for (const until = Date.now() + 60_000; this.server.deps.movers.present().length < this.movers.size;) {
      if (Date.now() > until) throw new Error('no mover came');
      await new Promise((resume) => setTimeout(resume, 50));
    }
  }

  /** Waits until no run is waiting or running, asking through the API. */
  async idle(client: Client, timeoutMs = 120_000): Promise<void> {
    const began = Date.now();
    for (;;) {
      const { rows } = await client.call('listRuns', { query: { states: 'waiting,running', limit: 1 } });
      if (!rows.length) return;
      if (Date.now() > began + timeoutMs) throw new Error(`run ${rows[0]!.id} does not end`);
      await pollPause(began);
    }
  }

  /** One round of the scheduler. */
  async tick(): Promise<void> {
    await this.server.scheduler.tick();
  }

  /** One round of the scheduler, until nothing is queued or running. */
  async round(): Promise<void> {
    await this.tick();
    for (let quiet = 0; quiet < 4;) {
      const open = await this.server.deps.db('task').whereIn('state', ['waiting', 'running']).first<{ id: string } | undefined>('id');
      quiet = open ? 0 : quiet + 1;
      await new Promise((resume) => setTimeout(resume, 40));
    }
  }

  /** A source folder, connected, and a target; the usual start of a test. */
  async connect(admin: Client, name = 'quay-1'): Promise<{ source: string; workloadId: number; targetId: string }> {
    await this.moverReady();
    const source = `${this.folder}/${name}`;
    fs.mkdirSync(source, { recursive: true });
    const { workloadId } = await admin.call('addSource', { body: { name, folder: source } });
    const existing = (await admin.call('listTargets')).rows[0];
    const targetId =
      existing?.id ??
      (await admin.call('addTarget', { body: { name: 'quay-disk', place: { kind: 'folder', folder: `${this.folder}/store` } } })).id;
    return { source, workloadId, targetId };
  }

  async stop(): Promise<void> {
    for (const name of this.movers.keys()) await this.killMover(name);
    if (this.process) await this.killServer();
    else await this.server.close();
    await this.db.stop();
    fs.rmSync(this.folder, { recursive: true, force: true });
  }
}

type PolicyInput = BodyInput<'addPolicy'>;
type RuleInput = PolicyInput['rules'][number];

/** What a policy of one rule can say otherwise, of its rule or of all. */
export type PolicyChange = Partial<PolicyInput & RuleInput>;

/** A policy of one rule that runs by hand and keeps two weeks. */
export function policyFor(workloads: number[], targetId: string, more: PolicyChange = {}): PolicyInput {
  const { kind, synthetic, schedule, keep, targetId: to, lockDays, copies, ...shared } = more;
  const said = { kind, synthetic, schedule, keep, targetId: to, lockDays, copies };
  const rule: RuleInput = {
    no: 1,
    kind: 'incremental',
    schedule: { every: 'hand' },
    keep: { by: 'days', days: 14 },
    targetId,
    ...Object.fromEntries(Object.entries(said).filter(([, value]) => value !== undefined)),
  };
  return { name: 'Server room', workloads, tags: [], rules: [rule], zone: 'Europe/Oslo', ...shared };
}

/** A policy whose first rule says something else. */
export function withRule<B extends { rules: readonly RuleInput[] }>(body: B, change: Partial<RuleInput>): B {
  const [first, ...others] = body.rules;
  return { ...body, rules: [{ ...first, ...change }, ...others] };
}

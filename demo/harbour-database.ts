import type { Answered, BodyInput, RouteName } from '@lithodex/contract';
import type { DateTime } from 'luxon';
import { runSql } from '../scripts/launcher/mariadb.mjs';
import { berthsNight, berthsPolicy, emptiedNight, emptiesTariffs, makeBerths, purgedNight, workAtBerths } from './harbour/berths';
import type { Random } from './harbour/random';

export interface DatabaseAccess {
  readonly port: number;
  readonly account: string;
  readonly password: string;
  /** Where its owner signs in. */
  readonly socket: string;
  /** One that follows it. */
  readonly replica?: { readonly port: number; readonly socket: string };
}

/** What is done with the product meanwhile. */
export interface Acts {
  readonly zone: string;
  call<N extends RouteName>(person: string, name: N, ...rest: [BodyInput<N>] | [string | number, BodyInput<N>]): Promise<Answered<N>>;
  quiet(): Promise<void>;
}

/** What the people of Kelmar Harbour do with the database server of the berths. It lives by the clock of the story. */
export class HarbourDatabase {
  private policyId = 0;
  private policy: BodyInput<'addPolicy'> | undefined;

  constructor(
    private readonly access: DatabaseAccess,
    private readonly random: Random,
    private readonly acts: Acts,
  ) {}

  private run(sql: string): string {
    return runSql(this.access.socket, sql);
  }

  /** Everybody who signs in from now on lives at this moment; null: at that of our own clock. */
  liveAt(at: number | null): void {
    this.run(`SET GLOBAL init_connect = '${at === null ? '' : `SET TIMESTAMP = ${Math.round(at / 1000)}`}';`);
  }

  /** It is connected on its night, with a full at once, and works on from then; after a gap in its log a full is taken again. */
  async night(night: number, evening: DateTime, targetId: string): Promise<void> {
    if (night < berthsNight) return;
    this.liveAt(evening.toMillis());
    if (night === berthsNight) await this.connect(evening, targetId);
    else this.work(night, evening);
    if (night === berthsNight || night === purgedNight) await this.protect(1);
    if (night === berthsNight) await this.protect(2);
  }

  private async connect(evening: DateTime, targetId: string): Promise<void> {
    const { account: name, password, port } = this.access;
    this.run(makeBerths(this.random, Math.round(evening.minus({ days: 1 }).toSeconds()), { name, password }));
    const { workloads } = await this.acts.call('eva.vind', 'addSystem', {
      name: 'berths-a',
      location: 'Server room',
      address: { kind: 'database', family: 'mariadb', host: '127.0.0.1', port, account: name, replicas: this.follow() },
      secret: password,
    });
    const common = { keep: { by: 'days' as const, days: berthsPolicy.days }, targetId };
    const rules = [
      { no: 1, kind: 'full' as const, schedule: { ...berthsPolicy.full, days: [...berthsPolicy.full.days] }, ...common },
      { no: 2, kind: 'log' as const, schedule: berthsPolicy.log, ...common },
    ];
    const policy: BodyInput<'addPolicy'> = {
      name: berthsPolicy.name,
      workloads,
      tags: [],
      rules,
      zone: this.acts.zone,
      objectiveHours: 1,
      changeLimit: 60,
    };
    this.policy = policy;
    this.policyId = (await this.acts.call('eva.vind', 'addPolicy', policy)).id;
  }

  /** From now on its log is followed, as the story has arrived at today. */
  async followLog(): Promise<void> {
    const { policy } = this;
    const rules = policy!.rules.map((r) => (r.kind === 'log' ? { ...r, schedule: { every: 'moment' as const }, objectiveMinutes: 1 } : r));
    await this.acts.call('eva.vind', 'changePolicy', this.policyId, { ...policy!, rules });
  }

  /** Lets the replica follow from the beginning on. */
  private follow(): { members: { host: string; port: number }[]; behindSeconds: number } | null {
    const { replica, account, password, port } = this.access;
    if (!replica) return null;
    runSql(
      replica.socket,
      `CHANGE MASTER TO MASTER_HOST = '127.0.0.1', MASTER_PORT = ${port}, MASTER_USER = '${account}', MASTER_PASSWORD = '${password}', MASTER_USE_GTID = slave_pos, MASTER_CONNECT_RETRY = 1; START SLAVE;`,
    );
    this.catchUp();
    return { members: [{ host: '127.0.0.1', port: replica.port }], behindSeconds: 60 };
  }

  /** Waits until the replica has all there is. */
  private catchUp(): void {
    const { replica } = this.access;
    if (replica) runSql(replica.socket, `SELECT MASTER_GTID_WAIT('${this.run('SELECT @@gtid_binlog_pos').trim()}', 30);`);
  }

  /** A day of work. */
  private work(night: number, evening: DateTime): void {
    this.run(workAtBerths(this.random, night === emptiedNight ? evening.set({ hour: 14 }) : evening));
    if (night === emptiedNight) this.run(emptiesTariffs(evening));
    this.catchUp();
    // the log of that day was not fetched before the server tidied up
    if (night === purgedNight) this.purge();
  }

  /** Takes away what is logged so far: also what somebody has only just stopped reading. */
  private purge(): void {
    const { replica } = this.access;
    if (replica) runSql(replica.socket, 'STOP SLAVE;');
    const readers = this.run("SELECT id FROM information_schema.processlist WHERE command = 'Binlog Dump';").split('\n');
    for (const id of readers.filter(Boolean)) this.run(`KILL ${id};`);
    this.run('FLUSH BINARY LOGS;');
    // what was stopped holds its file for a moment
    for (const until = Date.now() + 10_000; this.run('SHOW BINARY LOGS;').trim().includes('\n') && Date.now() < until;)
      this.run('PURGE BINARY LOGS BEFORE NOW() + INTERVAL 1 HOUR; DO SLEEP(0.1);');
    if (replica) runSql(replica.socket, 'START SLAVE;');
  }

  /** Runs a rule of its policy by hand. */
  private async protect(rule: number): Promise<void> {
    await this.acts.call('ole.brygge', 'runPolicy', this.policyId, { rule });
    await this.acts.quiet();
  }
}

import { setTimeout as pause } from 'node:timers/promises';
import type { DateTime } from 'luxon';
import { runPostgresql } from '../scripts/launcher/postgresql.mjs';
import { makeTide, newReadings, tidePolicy } from './harbour/tide';
import type { Acts, DatabaseAccess } from './harbour-database';
import type { Random } from './harbour/random';

const database = 'tide_gauges';

/** What the people of Kelmar Harbour do with the database server of the tide gauges. Nobody can set its clock, so it is protected from the moment on at which the demo begins. */
export class HarbourTide {
  constructor(
    private readonly access: DatabaseAccess,
    private readonly random: Random,
    private readonly acts: Acts,
  ) {}

  private run(sql: string, name = database): void {
    runPostgresql(this.access.socket, this.access.port, sql, name);
  }

  /** It is connected and protected; then readings come in, and somebody removes too many of them. */
  async connect(now: DateTime, targetId: string, readBy: string): Promise<void> {
    const { account, password, port } = this.access;
    this.run(`CREATE ROLE ${account} SUPERUSER LOGIN PASSWORD '${password}'; CREATE DATABASE ${database};`, 'postgres');
    this.run(makeTide(this.random, now));
    const { workloads } = await this.acts.call('eva.vind', 'addSystem', {
      name: 'tide-db',
      location: 'Pilot house',
      address: { kind: 'database', family: 'postgresql', host: '127.0.0.1', port, account },
      readBy,
      secret: password,
    });
    const common = { keep: { by: 'days' as const, days: tidePolicy.days }, targetId };
    const rules = [
      { no: 1, kind: 'full' as const, schedule: tidePolicy.full, ...common },
      { no: 2, kind: 'log' as const, schedule: tidePolicy.log, objectiveMinutes: tidePolicy.objectiveMinutes, ...common },
    ];
    const policy = { name: tidePolicy.name, workloads, tags: [], rules, zone: this.acts.zone, objectiveHours: 26, changeLimit: 60 };
    const { id } = await this.acts.call('eva.vind', 'addPolicy', policy);
    const protect = async (rule: number) => {
      await this.acts.call('ole.brygge', 'runPolicy', id, { rule });
      await this.acts.quiet();
    };
    await protect(1);
    // each of these is of another second, and the last one is over when the log is taken
    for (let i = 0; i < 2; i++) {
      await pause(1200);
      this.run(newReadings(this.random));
    }
    this.run("DELETE FROM reading WHERE gauge = 'outer mole'");
    await pause(1200);
    this.run(newReadings(this.random));
    await pause(2100);
    await protect(2);
  }
}

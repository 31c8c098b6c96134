import fs from 'node:fs';
import { DateTime } from 'luxon';
import { nextRuns } from '@lithodex/core';
import type { Answered, BodyInput, RouteName } from '@lithodex/contract';
import { appendAudit, hashPassword, issueToken, moveSequences, runServer, type Config, type RunningServer } from '@lithodex/server';
import { berthsNight } from './harbour/berths';
import { landingNight, machinePolicy, platformNight, scratchPolicy } from './harbour/machines';
import { StoryClock } from './story-clock';
import { readerName, StoryMovers } from './story-movers';
import { furtherOf, policyBody } from './story-policies';
import { StoryPeople } from './story-people';
import { keepsOnStorage, provesReturns } from './story-returns';
import { HarbourDatabase, type Acts } from './harbour-database';
import { asker, officeNight } from './harbour/office';
import { HarbourOffice } from './harbour-office';
import { asksForLess, protectsBeforeChange } from './story-changes';
import { drillsHarbour } from './story-drills';
import { scansHarbour } from './story-scans';
import { asksAtTheDesk, clerkRestores, helpsAtTheDesk } from './story-desk';
import { HarbourApplications } from './harbour-applications';
import { triesTheCloud } from './harbour-cloud';
import { HarbourSurveys } from './harbour-surveys';
import { HarbourTide } from './harbour-tide';
import { toTheShelf, type StandinAccess } from './standin-access';
import { HarbourPlatform } from './harbour-platform';
import { HarbourRoom, waitingUnit } from './harbour-room';
import { spoilNewestPack } from './harbour/failing-sector';
import { Random } from './harbour/random';
import { GatheredLists } from './harbour/lists';
import { encryptCharts, harbourServers } from './harbour/servers';
import {
  careNight,
  clerkNight,
  closedFolderNight,
  connectNight,
  clerkRemit,
  failingSectorNight,
  nights,
  notices,
  noticesNight,
  password,
  people,
  plansNight,
  proofNight,
  policies,
  relayNight,
  shelfNight,
  takenOnNight,
  trialServers,
  unpluggedNight,
} from './harbour/story';

/** Tasks at once while the nights pass quickly: most of the time they wait for the disk. */
const manyTasks = 4;

/** Lives through the eight weeks with the real server and a real mover, so that every point of the demo was made by the product. */
export class History {
  private readonly clock = new StoryClock();
  private readonly random = new Random(1906);
  private server!: RunningServer;
  private readonly movers: StoryMovers;
  private base = '';
  private people!: StoryPeople;
  private readonly lastMorning: DateTime;
  private readonly platform: HarbourPlatform;
  private readonly berths: HarbourDatabase;
  private readonly tide: HarbourTide;
  private readonly office: HarbourOffice;
  private readonly room: HarbourRoom;
  private readonly surveys: HarbourSurveys;
  private readonly applications: HarbourApplications;
  private readonly lists = new GatheredLists((server) => this.folderOf(server));
  private diskId = '';
  /** What puts a policy in force as it is meant, once the trial is over. */
  private readonly inEarnest: (() => Promise<unknown>)[] = [];

  /** Servers that are protected, or could be. */
  private readonly connected = new Set<string>();

  constructor(
    private readonly config: Config,
    private readonly state: string,
    private readonly standins: StandinAccess,
    private readonly say: (text: string) => void,
  ) {
    this.platform = new HarbourPlatform(standins.platform, this.random);
    const acts: Acts = {
      zone: config.zone,
      call: (person, name, ...rest) => this.call(person, name, ...rest),
      quiet: () => this.quiet(),
    };
    this.berths = new HarbourDatabase(standins.berths, this.random, acts);
    this.tide = new HarbourTide(standins.tide, this.random, acts);
    this.room = new HarbourRoom(state, acts);
    this.surveys = new HarbourSurveys(standins.surveys, new Random(1908), acts);
    this.applications = new HarbourApplications(standins.clusters, new Random(1911), acts);
    this.movers = new StoryMovers(state, standins.receivePort);
    const now = DateTime.now().setZone(config.zone);
    const morning = now.set({ hour: 5, minute: 0, second: 0, millisecond: 0 });
    this.lastMorning = morning > now ? morning.minus({ days: 1 }) : morning;
    const officeActs = { ...acts, get: <T>(...question: Parameters<StoryPeople['get']>) => this.people.get<T>(...question) };
    this.office = new HarbourOffice(standins.office, officeActs, this.evening(0).minus({ hours: 8 }).toMillis());
  }

  private folderOf(server: string): string {
    return `${this.state}/servers/${server}`;
  }

  private evening(night: number): DateTime {
    return this.lastMorning.minus({ days: nights - night }).set({ hour: 20 });
  }

  async live(): Promise<void> {
    const first = this.evening(0).minus({ hours: 8 }).toMillis();
    this.clock.set(first);
    this.say('Making the servers of Kelmar Harbour …');
    for (const server of harbourServers) {
      fs.mkdirSync(this.folderOf(server.name), { recursive: true });
      server.fill(this.folderOf(server.name), this.random, first);
    }
    this.room.build(first);
    const config = { ...this.config, port: 0, schedulerMs: 0, leaseMs: 60_000, targetCare: false };
    this.server = await runServer(config, this.clock);
    this.base = `http://127.0.0.1:${this.server.port}`;
    this.people = new StoryPeople(`${this.base}/api/v1`);
    try {
      await this.setUp();
      for (let night = 0; night < nights; night++) {
        config.targetCare = night >= careNight;
        await this.night(night);
        if (night % 7 === 6) this.say(`  week ${(night + 1) / 7} of ${nights / 7} lived through`);
      }
      const now = DateTime.now().setZone(this.config.zone);
      // the story has arrived at today
      this.clock.set(now.toMillis(), 1);
      this.office.losesNewest(asker.login, 3);
      // the gauges have to wait for seconds that pass
      await Promise.all([this.protectTide(now), this.looksBack(now)]);
      await this.berths.followLog();
    } finally {
      this.movers.stop();
      await this.server.close();
    }
  }

  /** What is done about the night: somebody asks at the desk, points are looked into, and restores are tried. */
  private async looksBack(now: DateTime): Promise<void> {
    const quiet = () => this.quiet();
    await asksAtTheDesk(this.people, `${this.base}/api/v1`, `${this.state}/mail`);
    await scansHarbour(this.people, now.toMillis(), quiet);
    await drillsHarbour(this.people, quiet, () => moveSequences(this.server.deps));
    await triesTheCloud(this.people, this.standins.skyfjord, quiet);
  }

  /** The server of the tide gauges is read by a mover of its own, which has no keys. */
  private async protectTide(now: DateTime): Promise<void> {
    const { deps } = this.server;
    const bounds = { duties: ['capture' as const], mover: readerName };
    this.movers.startReader(this.base, await issueToken(deps, `mover ${readerName}`, 'mover', 'eva.vind', bounds));
    const known = () => deps.db('mover').where({ name: readerName }).first('name');
    while (!deps.movers.readersOnly().length || !(await known())) await new Promise((resume) => setTimeout(resume, 50));
    await this.call('eva.vind', 'changeMover', readerName, { drained: false, tasks: 2, place: 'Pilot house' });
    await this.tide.connect(now, this.diskId, readerName);
  }

  private async setUp(): Promise<void> {
    const { deps } = this.server;
    await deps.db.transaction((trx) =>
      appendAudit(trx, this.clock.now(), { actor: 'setup', action: 'installation.start', object: 'Kelmar Harbour' }),
    );
    const hash = await hashPassword(password);
    // who tries the demo out signs in with a name and a password alone
    await deps
      .db('setting')
      .where({ name: 'sign-in' })
      .update({ value: JSON.stringify({ secondFor: [], idleMinutes: 240 }) });
    for (const person of people) await deps.db('person').insert({ ...person, password_hash: hash, created_at: this.clock.now() });
    this.room.letIn(
      await issueToken(deps, `mover ${waitingUnit}`, 'mover', 'eva.vind', { duties: ['rebuild'], systems: [], mover: waitingUnit }),
    );
    this.movers.startKeeper(this.base, await issueToken(deps, 'quay-mover', 'mover', 'setup'));
    while (!deps.movers.present().length) await new Promise((resume) => setTimeout(resume, 50));
    await this.call('eva.vind', 'changeMover', 'quay-mover', { drained: false, tasks: manyTasks, place: '' });
    const { id: targetId } = await this.call('eva.vind', 'addTarget', {
      name: 'quay-disk',
      place: { kind: 'folder', folder: `${this.state}/quay-disk` },
      location: 'Server room',
    });
    const { id: northId } = await this.call('eva.vind', 'addTarget', {
      name: 'north-store',
      place: { kind: 'bucket', prefix: 'lithodex/', ...this.standins.bucket },
      location: 'Lighthouse station',
    });
    await this.call('eva.vind', 'setPrices', northId, {
      prices: { currency: 'EUR', perGbMonth: 0.012, perGbRead: 0.02, perThousandRequests: 0.005, leastDays: 30 },
    });
    const { id: vaultId } = await this.call('eva.vind', 'addTarget', {
      name: 'vault',
      place: { kind: 'cartridges', folder: `${this.state}/vault`, ...this.standins.library },
      location: 'Pilot house',
    });
    this.diskId = targetId;
    await this.settle([targetId, northId, vaultId]);
    const copyTargets = { 'north-store': northId, vault: vaultId };
    const ids = await this.connect((name) => trialServers.includes(name));
    await deps
      .db('person')
      .where({ name: 'ilse.holm' })
      .update({ remit: JSON.stringify(clerkRemit.map((name) => ids.get(name))) });
    for (const policy of policies) {
      const body = (trial: boolean) => policyBody(policy, ids, targetId, copyTargets, this.config.zone, trial);
      const { id } = await this.call('eva.vind', 'addPolicy', body(true));
      this.inEarnest.push(() => this.call('eva.vind', 'changePolicy', id, body(false)));
    }
  }

  /** What one does with a new installation before anything else. */
  private async settle(targets: readonly string[]): Promise<void> {
    for (const id of targets) await this.call('eva.vind', 'envelope', id, { passphrase: 'three lanterns on the mole' });
    await this.call('eva.vind', 'hideFirstSteps', { hidden: true });
  }

  /** Connects servers. Returns their workloads, by name. */
  private async connect(which: (name: string) => boolean): Promise<Map<string, number>> {
    const ids = new Map<string, number>();
    for (const s of harbourServers.filter((s) => which(s.name))) {
      const { workloadId } = await this.call('eva.vind', 'addSource', {
        name: s.name,
        folder: this.folderOf(s.name),
        location: s.location,
        readAs: s.readAs,
        tags: [...s.tags],
      });
      ids.set(s.name, workloadId);
      this.connected.add(s.name);
    }
    return ids;
  }

  /** A day of work and the night after it. */
  private async night(night: number): Promise<void> {
    const evening = this.evening(night);
    await this.office.day(night, evening, this.diskId, (moment) => this.dayPasses(moment));
    this.clock.set(evening.toMillis());
    if (night === connectNight) {
      for (const begin of this.inEarnest) await begin();
      await this.connect((name) => !trialServers.includes(name) && name !== 'ais-relay');
    }
    for (const server of harbourServers.filter((s) => this.connected.has(s.name)))
      server.work(this.folderOf(server.name), this.random, night, evening.toMillis() - this.random.int(1, 9) * 3_600_000);
    this.lists.work(night, evening.toMillis());
    if (night === closedFolderNight) fs.chmodSync(`${this.folderOf('harbour-office')}/personnel/appraisals`, 0o700);
    if (night === clerkNight) await clerkRestores(this.people, this.folderOf('harbour-office'), () => this.quiet());
    if (night === plansNight) await protectsBeforeChange(this.people, () => this.quiet());
    if (night === relayNight) await this.connect((name) => name === 'ais-relay');
    await this.room.night(night, evening);
    await this.machines(night, evening);
    await this.berths.night(night, evening, this.diskId);
    await this.office.night(night, evening, this.diskId);
    await this.surveys.night(night, evening, this.diskId);
    await this.applications.night(night, evening, this.diskId);
    if (night === officeNight) await helpsAtTheDesk(this.server.deps.db);
    if (night === proofNight) await provesReturns(this.people, `${this.state}/proof`);
    if (night === noticesNight) await this.tellPeople();
    if (night === nights - 1) {
      await this.call('eva.vind', 'changeMover', 'quay-mover', { drained: false, tasks: 2, place: 'Server room' });
      await this.call('eva.vind', 'looked', undefined);
    }
    const last = night === nights - 1;
    const until = last ? this.lastMorning.toMillis() : evening.plus({ hours: 9 }).toMillis();
    const timed = [
      ...policies.flatMap((p) => [p.schedule, ...furtherOf(p).map((r) => r.schedule)]),
      ...(night >= platformNight ? [machinePolicy, scratchPolicy].map((p) => p.runs.schedule) : []),
    ];
    const starts = [...new Set(timed.flatMap((schedule) => nextRuns({ schedule, zone: this.config.zone }, evening.toMillis(), 1)))]
      .filter((t) => t < until)
      .sort((a, b) => a - b);
    const disk = `${this.state}/quay-disk`;
    if (night === unpluggedNight) fs.renameSync(disk, `${disk}.unplugged`);
    for (const start of starts) {
      if (last) await this.lastNightHappens(start);
      this.clock.set(Math.max(start + this.random.int(2000, 9000), this.clock.now() + 1000));
      if (night >= berthsNight) this.berths.liveAt(this.clock.now());
      await this.server.scheduler.tick();
      await this.quiet();
      // the charts come last in the night, and what is new of them is needed for long
      if (night === failingSectorNight && start === starts.at(-1)) spoilNewestPack(disk);
    }
    if (night === unpluggedNight) fs.renameSync(`${disk}.unplugged`, disk);
    if (night >= noticesNight) await this.morning(last ? this.lastMorning : evening.plus({ days: 1 }).set({ hour: 7, minute: 31 }));
    if (night === takenOnNight) await this.takesOn();
    if (night === shelfNight) await toTheShelf(this.standins, 'KH0041');
    if (last) {
      this.berths.liveAt(null);
      await toTheShelf(this.standins, 'KH0042');
      await this.platform.recovers();
      fs.renameSync(`${this.folderOf('tides-02')}.away`, this.folderOf('tides-02'));
      await keepsOnStorage(this.people);
      await asksForLess(this.people);
    }
  }

  /** A moment of a day, and what is due then. */
  private async dayPasses(moment: DateTime): Promise<void> {
    this.clock.set(Math.max(moment.toMillis(), this.clock.now() + 1000));
    await this.server.scheduler.tick();
    await this.quiet();
  }

  /** Before the first run of the last night the disk of tides-02 is away; before the charts are protected at 04:00 they are attacked. */
  private async lastNightHappens(start: number): Promise<void> {
    const local = DateTime.fromMillis(start, { zone: this.config.zone });
    if (local.hour === 22) fs.renameSync(this.folderOf('tides-02'), `${this.folderOf('tides-02')}.away`);
    if (local.hour === 23) await this.platform.lastNightFails();
    if (local.hour === 4) encryptCharts(this.folderOf('charts-nas'), this.random, local.set({ hour: 2, minute: 14 }).toMillis());
  }

  /** The platform is connected on its night and lives on from then; its machines are protected by rule. */
  private async machines(night: number, evening: DateTime): Promise<void> {
    if (night < platformNight) return;
    if (night === platformNight) {
      await this.platform.build(evening.toMillis(), this.lastMorning.toMillis());
      await this.call('eva.vind', 'addPlatform', this.platform.body);
      const common = { workloads: [], tags: [], zone: this.config.zone, changeLimit: 60 };
      for (const { runs, ...policy } of [machinePolicy, scratchPolicy]) {
        const rules = [{ no: 1, kind: 'incremental' as const, targetId: this.diskId, ...runs }];
        await this.call('eva.vind', 'addPolicy', { ...common, ...policy, rules });
      }
      await this.knowsTheLamp();
    } else await this.platform.work(evening.toMillis());
    if (night === landingNight) await this.platform.changes(evening.toMillis());
  }

  /** One machine without a helper comes to rest under an account inside; others still do not. */
  private async knowsTheLamp(): Promise<void> {
    const { workloads } = await this.get<Answered<'estate'>>('eva.vind', 'estate', '', '?q=lamp-control');
    const { rows } = await this.call('eva.vind', 'setInside', {
      workloads: workloads.map((w) => w.id),
      account: this.platform.lampAccount,
    });
    if (!rows.every((r) => r.ok)) throw new Error('lamp-control does not let its keeper in');
  }

  /** Mail goes to the sink from now on. */
  private async tellPeople(): Promise<void> {
    const way = { host: '127.0.0.1', port: this.standins.smtpPort, security: 'none' as const, from: 'lithodex@kelmar.example' };
    await this.call('eva.vind', 'setMailServer', { ...way, links: `http://127.0.0.1:${this.config.port}` });
    const groups = [{ group: 'backup-operators', role: 'operator' as const, remit: null }];
    await this.call('eva.vind', 'setOrganisation', {
      name: 'Kelmar Harbour',
      ...this.standins.organisation,
      groupsClaim: 'groups',
      groups,
      newPeople: true,
    });
    for (const { name, about, way } of notices) await this.call('eva.vind', 'addNotice', { name, about, way: { ...way, to: [...way.to] } });
  }

  /** What the night left is noticed, and told. */
  private async morning(at: DateTime): Promise<void> {
    const { scheduler } = this.server;
    await scheduler.settled();
    this.clock.set(Math.max(at.toMillis(), this.clock.now()));
    await scheduler.tick();
    await scheduler.settled();
    await this.quiet();
  }

  /** The operator takes on what can't be read in the office. */
  private async takesOn(): Promise<void> {
    const { matters, people: helpers } = await this.get<Answered<'watch'>>('ole.brygge', 'watch');
    const unread = matters.find((m) => m.title.startsWith('Parts of harbour-office'))!;
    const owner = helpers.find((p) => p.name === 'Ole Brygge')!.id;
    await this.call('ole.brygge', 'changeMatter', unread.id, { owner, note: 'Asked the personnel office to let us read the appraisals.' });
  }

  /** Waits until nothing is queued or running. */
  private async quiet(): Promise<void> {
    const { db, events } = this.server.deps;
    for (;;) {
      const changed = events.next();
      const open = await db('task').whereIn('state', ['waiting', 'running']).first<{ id: string } | undefined>('id');
      if (!open) return;
      await Promise.race([changed, new Promise((resume) => setTimeout(resume, 250))]);
    }
  }

  private get<T>(person: string, name: RouteName, id: string | number = '', query = ''): Promise<T> {
    return this.people.get(person, name, id, query);
  }

  private call<N extends RouteName>(
    person: string,
    name: N,
    ...rest: [BodyInput<N>] | [string | number, BodyInput<N>]
  ): Promise<Answered<N>> {
    return this.people.call(person, name, ...rest);
  }
}

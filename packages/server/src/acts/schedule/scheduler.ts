import { rowsOf } from '../../base/db/open';
import type { Deps } from '../deps';
import { expireAll } from '../runs/expiry';
import { rewriteNames } from '../../records/catalog/rewrite-names';
import { forgetEdited } from '../../records/runs/edited-texts';
import { dropOldRates } from '../../records/runs/run-rates';
import { startDueCare } from '../targets/care';
import { startDueDrills } from '../trust/drill-rota';
import { startDueScans } from '../trust/scans';
import { reclaimLost } from '../movers/leases';
import { SettingsKeeper } from '../settings/keep-settings';
import { readAllPlatforms, readStalePlatforms } from '../estate/read-platform';
import { readStaleSystems } from '../estate/read-system';
import { readStaleInstallations } from '../overview/installations';
import { measureStale } from '../targets/room';
import { deliverDue } from '../notices/deliver';
import { tellAskers } from '../recover/tell-askers';
import { queueMessages } from '../notices/queue-messages';
import { rememberMatters } from '../watch/matter-book';
import { foundMatters } from '../watch/matters';
import { startDue } from './due';
import { retryFailed } from './retries';
import { removeDueTrials } from '../recover/remove-trials';
import { moveSequences } from '../recover/sequences';
import { startDueStanding } from '../recover/standing';
import { endWindows } from './windows';

/** All points are looked at for what is to be scanned: once in so many rounds. */
const scanRounds = 6;
const expiryEveryMs = 3_600_000;
const mattersEveryMs = 60_000;
/** Named by the database, as such locks are of the whole server, where others may live as well. */
const roundLock = "CONCAT('lithodex-scheduler ', DATABASE())";

/** Starts what is due, reclaims what was lost, lets go what has expired. Only one server at a time does it: a database lock elects it. */
export class Scheduler {
  private timer: NodeJS.Timeout | undefined;
  private lastExpiry: number;
  private lastMatters = -Infinity;
  private lastNames: number;
  private going: Promise<void> | undefined;
  private reading: Promise<void> | undefined;
  private measuring: Promise<void> | undefined;
  private standing: Promise<void> | undefined;
  /** When this server began, or began again after a pause, to hear what movers say. */
  private hearingSince = Date.now();
  private lastRound = Date.now();
  private lastScans = 0;

  readonly keeper: SettingsKeeper;

  constructor(private readonly deps: Deps) {
    this.keeper = new SettingsKeeper(deps);
    this.lastExpiry = deps.clock.now();
    this.lastNames = deps.clock.now();
  }

  start(): void {
    const { schedulerMs } = this.deps.config;
    if (!schedulerMs) return;
    this.timer = setInterval(() => {
      // one round at a time: what takes longer than the pause is not begun again beside itself
      this.going ??= this.round()
        .then((wanted) => {
          // policies that wait for a platform start in the round after it was read; what else is due need not wait
          if (wanted?.size) void this.read(wanted);
        })
        .catch(this.told('the scheduler could not do its round'))
        .finally(() => {
          this.going = undefined;
        });
    }, schedulerMs);
  }

  async stop(): Promise<void> {
    clearInterval(this.timer);
    await this.going;
    await this.reading;
    await this.measuring;
    await this.standing;
    await this.keeper.ended();
  }

  /** Waits until what goes on beside the rounds is done. */
  async settled(): Promise<void> {
    await this.measuring;
  }

  /** One round; a second one where platforms had to be read first. */
  async tick(): Promise<void> {
    const wanted = await this.round();
    if (wanted?.size) {
      await this.read(wanted);
      await this.round();
    }
    await this.standing;
  }

  private read(wanted: ReadonlySet<number>): Promise<void> {
    return (this.reading ??= readAllPlatforms(this.deps, wanted)
      .catch(this.told('the platforms that policies wait for could not be read'))
      .finally(() => {
        this.reading = undefined;
      }));
  }

  private told(what: string): (error: unknown) => void {
    return (error) => {
      this.deps.log.warn({ err: error }, what);
    };
  }

  /** Resolves with the platforms that policies wait for; undefined where another server is elected. */
  private async round(): Promise<ReadonlySet<number> | undefined> {
    const { deps } = this;
    const wanted = await deps.db.transaction(async (trx) => {
      const [lock] = await rowsOf<{ got: number }>(trx.raw(`SELECT GET_LOCK(${roundLock}, 0) AS got`));
      this.noticeOwnPause();
      if (lock?.got !== 1) return undefined;
      try {
        if (Date.now() - this.hearingSince >= deps.config.leaseMs) await reclaimLost(deps);
        await endWindows(deps);
        await retryFailed(deps);
        const due = await startDue(deps);
        // movers and platforms are asked before one begins, which is no reason to wait for the others
        this.standing ??= startDueStanding(deps)
          .catch(this.told('the restores that are repeated could not begin'))
          .then(() => moveSequences(deps))
          .catch(this.told('sequences could not go on'))
          .finally(() => {
            this.standing = undefined;
          });
        if (Date.now() - this.lastScans >= scanRounds * deps.config.schedulerMs) {
          this.lastScans = Date.now();
          await startDueScans(deps);
          await startDueDrills(deps);
        }
        if (deps.config.targetCare) await startDueCare(deps);
        if (deps.config.targetCare) void this.keeper.round();
        if (deps.clock.now() - this.lastExpiry > expiryEveryMs) {
          this.lastExpiry = deps.clock.now();
          await expireAll(deps);
          await dropOldRates(deps.db, deps.clock.now());
          await forgetEdited(deps.db);
        }
        return due.wanted;
      } finally {
        await trx.raw(`DO RELEASE_LOCK(${roundLock})`);
      }
    });
    if (wanted) this.measure();
    return wanted;
  }

  /** Outside the lock and beside the rounds, as a mover may take its time to answer: lost tasks are taken back meanwhile. */
  private measure(): void {
    this.measuring ??= measureStale(this.deps, expiryEveryMs)
      .catch(this.told('the room of the targets could not be measured'))
      .then(() => readStalePlatforms(this.deps))
      .then(() => removeDueTrials(this.deps))
      .then(() => readStaleSystems(this.deps))
      .catch(this.told('the platforms could not be read'))
      .then(() => readStaleInstallations(this.deps))
      .catch(this.told('other installations could not be asked'))
      .then(() => this.tendNames())
      .catch(this.told('the names could not be written anew'))
      .then(() => this.noticeMatters())
      .catch(this.told('the matters could not be looked for'))
      .then(() => deliverDue(this.deps))
      .catch(this.told('messages could not be sent'))
      .then(() => tellAskers(this.deps))
      .catch(this.told('people could not be told what came back'))
      .finally(() => {
        this.measuring = undefined;
      });
  }

  private async tendNames(): Promise<void> {
    if (this.deps.clock.now() - this.lastNames < expiryEveryMs) return;
    this.lastNames = this.deps.clock.now();
    await rewriteNames(this.deps.db);
  }

  /** Once a minute at most: what needs a person is remembered with the time it came up, and told to whom it concerns. */
  private async noticeMatters(): Promise<void> {
    const now = this.deps.clock.now();
    if (now - this.lastMatters < mattersEveryMs) return;
    this.lastMatters = now;
    const matters = await foundMatters(this.deps);
    await rememberMatters(this.deps, matters);
    await queueMessages(this.deps, matters);
  }

  /** After a restart, or a time in which this server or its database stood still, nobody's task is taken away for one lease: movers could not be heard. */
  private noticeOwnPause(): void {
    const now = Date.now();
    const { leaseMs, schedulerMs } = this.deps.config;
    if (now - this.lastRound > leaseMs / 2 + 2 * schedulerMs) this.hearingSince = now;
    this.lastRound = now;
  }
}

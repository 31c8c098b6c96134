import { privateAddressesSetting } from '@lithodex/net';
import { pino } from 'pino';
import { createApp } from './app';
import { systemClock, type Clock } from './base/clock';
import type { Config } from './base/config';
import { openDatabase } from './base/db/open';
import type { Deps } from './acts/deps';
import { EstateBook } from './acts/estate/estate-book';
import { LiveEvents } from './base/http/live-events';
import { OpenAnswers } from './base/http/open-answers';
import { OpenCalls } from './base/http/open-calls';
import { listen } from './base/http/listen';
import { SessionStore } from './base/http/session-store';
import { chosenZone } from './acts/people/first-person';
import { Downloads } from './acts/movers/downloads';
import { MoverLine } from './acts/movers/mover-line';
import { recordMissingPromises } from './acts/policies/promises';
import { Scheduler } from './acts/schedule/scheduler';
import { Secrets } from './base/secrets';
import { NightBook } from './acts/watch/earlier-nights';
import { NameIndex } from './records/catalog/name-index';
import { rewriteNames } from './records/catalog/rewrite-names';

export interface RunningServer {
  readonly port: number;
  readonly deps: Deps;
  readonly scheduler: Scheduler;
  close(): Promise<void>;
}

/** Opens the database, brings its tables up to date, listens and starts the scheduler. */
export async function runServer(given: Config, clock: Clock = systemClock): Promise<RunningServer> {
  const config = { ...given };
  process.env[privateAddressesSetting] = config.privateAddresses ? 'yes' : 'no';
  const log = pino({ level: config.logLevel });
  const db = openDatabase(config.database);
  await db.migrate.latest();
  await rewriteNames(db);
  await recordMissingPromises(db, clock.now());
  config.zone = (await chosenZone(db)) ?? config.zone;
  const deps: Deps = {
    db,
    clock,
    config,
    log,
    events: new LiveEvents(db, clock),
    estate: new EstateBook(() => deps),
    nights: new NightBook(() => deps),
    names: new NameIndex(db),
    movers: new MoverLine(),
    downloads: new Downloads(),
    answers: new OpenAnswers(),
    calls: new OpenCalls(),
    secrets: new Secrets(config.sessionSecret),
  };
  const server = await listen(createApp(deps), config, log);
  const warmed = Promise.all([deps.nights.warm(), deps.names.follow()]).catch((error: unknown) => {
    log.warn({ err: error }, 'what is kept in memory could not be read');
  });
  const scheduler = new Scheduler(deps);
  scheduler.start();
  const sweep = setInterval(() => {
    new SessionStore(db).sweep().catch(() => undefined);
  }, 600_000);
  return {
    port: server.port,
    deps,
    scheduler,
    async close() {
      clearInterval(sweep);
      deps.movers.close();
      await scheduler.stop();
      await warmed;
      deps.events.close();
      await server.close();
      await deps.answers.ended(1500);
      await db.destroy();
    },
  };
}

import type { Knex } from 'knex';
import type { Logger } from 'pino';
import type { Clock } from './clock';
import type { Config } from './config';
import type { LiveEvents } from './http/live-events';
import type { OpenAnswers } from './http/open-answers';
import type { OpenCalls } from './http/open-calls';
import type { Secrets } from './secrets';

/** What everything on the server stands on. */
export interface Base {
  readonly db: Knex;
  readonly clock: Clock;
  readonly config: Config;
  readonly log: Logger;
  readonly events: LiveEvents;
  readonly answers: OpenAnswers;
  readonly calls: OpenCalls;
  readonly secrets: Secrets;
}

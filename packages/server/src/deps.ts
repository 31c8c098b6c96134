import type { Knex } from 'knex';
import type { Logger } from 'pino';
import type { Clock } from './clock';
import type { Config } from './config';
import type { EstateBook } from './estate/estate-book';
import type { LiveEvents } from './http/live-events';
import type { OpenAnswers } from './http/open-answers';
import type { OpenCalls } from './http/open-calls';
import type { Downloads } from './movers/downloads';
import type { MoverLine } from './movers/mover-line';
import type { Secrets } from './secrets';
import type { NightBook } from './watch/earlier-nights';

/** What the areas of the server work with. */
export interface Deps {
  readonly db: Knex;
  readonly clock: Clock;
  readonly config: Config;
  readonly log: Logger;
  readonly events: LiveEvents;
  readonly estate: EstateBook;
  readonly nights: NightBook;
  readonly movers: MoverLine;
  readonly downloads: Downloads;
  readonly answers: OpenAnswers;
  readonly calls: OpenCalls;
  readonly secrets: Secrets;
}

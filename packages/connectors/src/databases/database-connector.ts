import type { Connector } from '../connector';
import { captureDatabase } from './capture-database';
import { familyOf } from './families';
import { restoreDatabase } from './restore-database';
import { surveyDatabase } from './survey-database';

/** The only workload of a database server: all of it, as one log and one instant hold for all its databases. */
const whole = 'server';

/** Database servers, as text that people can read. */
export const databaseConnector: Connector<'database'> = {
  system: {
    test: ({ server }) => familyOf(server.family).test(server),
    async discover({ server }) {
      return [{ id: whole, name: server.host, facts: await familyOf(server.family).facts(server) }];
    },
  },
  capture: captureDatabase,
  survey: surveyDatabase,
  restore: restoreDatabase,
};

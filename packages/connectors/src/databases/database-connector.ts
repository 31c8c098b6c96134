import { topEntry, type Root } from '@lithodex/engine';
import {
  wholeServer,
  type DatabaseCommit,
  type DatabaseFamily,
  type DatabaseFrom,
  type DatabaseLogPoint,
  type RowsCompared,
  type TableBeside,
} from '@lithodex/kinds';
import type { Connector } from '../connector';
import { captureDatabase } from './capture-database';
import { familyOf } from './families';
import type { CommitsAround } from './family';
import { replicasNow } from './members';
import { writeNewest } from './newest-files';
import { restoreDatabase } from './restore-database';
import { surveyDatabase } from './survey-database';
import type { PointStore } from '../point-store';

/** Database servers, as text that people can read. */
export const databaseConnector: Connector<'database'> = {
  system: {
    async test({ server }) {
      const found = await familyOf(server.family).test(server);
      const { fine, not } = await replicasNow(server);
      return { ...found, message: [found.message, ...fine].join(' '), remarks: [...found.remarks, ...not] };
    },
    async discover({ server }) {
      return [{ id: wholeServer, name: server.host, facts: await familyOf(server.family).facts(server) }];
    },
  },
  capture: captureDatabase,
  grew: ({ server }, point) => familyOf(server.family).grew(server, point.content.state as object),
  survey: surveyDatabase,
  newest: writeNewest,
  restore: restoreDatabase,
};

/** Rows of each kind of difference that are shown. */
const shownRows = 100;

const pairOf = (family: DatabaseFamily, { database, table, suffix }: TableBeside) => ({
  database,
  now: table,
  then: familyOf(family).besides(table, suffix),
});

/** How a table differs from what was put beside it. Throws SourceError. */
export function compareRows({ server }: DatabaseFrom, pair: TableBeside): Promise<RowsCompared> {
  return familyOf(server.family).compareRows(server, pairOf(server.family, pair), shownRows);
}

/** Gives a table and what was put beside it the place of each other, at one instant. Gives what is worth knowing of it. Throws SourceError. */
export function swapTables({ server }: DatabaseFrom, pair: TableBeside): Promise<string[]> {
  return familyOf(server.family).swapTables(server, pairOf(server.family, pair));
}

/** The commits around a moment, as a point of a log tells them. Throws SourceError. */
export function commitsOf(store: PointStore, root: Root, around: CommitsAround): Promise<DatabaseCommit[]> {
  return familyOf((root.content.facts as DatabaseLogPoint).family).commits(
    { store, top: topEntry(root), state: root.content.state as object },
    around,
  );
}

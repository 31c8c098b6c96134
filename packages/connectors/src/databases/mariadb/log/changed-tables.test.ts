import { describe, expect, it } from 'vitest';
import { ChangedByLog } from './changed-tables';
import { eventType, type LogEvent } from './events';

const event = (type: number, body: Buffer): LogEvent => ({
  data: Buffer.concat([Buffer.alloc(19), body]),
  type,
  at: 0,
  server: 1,
  end: 100,
  madeUp: false,
});
const statement = (sql: string) => {
  const query = Buffer.concat([Buffer.alloc(13), Buffer.from(`berths\0${sql}`)]);
  query[8] = 'berths'.length;
  return event(eventType.query, query);
};
const rowsOf = (database: string, table: string) => {
  const name = (text: string) => Buffer.concat([Buffer.from([text.length]), Buffer.from(`${text}\0`)]);
  return event(eventType.tableMap, Buffer.concat([Buffer.alloc(8), name(database), name(table), Buffer.from([0, 0])]));
};
const changed = (...events: LogEvent[]) => {
  const found = new ChangedByLog();
  for (const e of events) found.take(e, false);
  return found;
};

describe('what a log says was changed', () => {
  it('are the tables whose rows it holds', () => {
    const found = changed(statement('BEGIN'), rowsOf('berths', 'ship'), event(23, Buffer.alloc(10)), statement('COMMIT'));
    expect(found.has('berths', 'ship')).toBe(true);
    expect(found.has('berths', 'booking')).toBe(false);
    expect(found.has('tariffs', 'ship')).toBe(false);
  });

  it('are the tables that statements about tables name, in any spelling', () => {
    const found = changed(statement('ALTER TABLE `Ship` ADD x INT'), statement('/* job */ rename table a_1 to `odd ``name```'));
    for (const name of ['ship', 'SHIP', 'a_1', 'odd `name`', 'Fyrlys-ø']) expect(found.has('berths', name)).toBe(true);
    expect(found.has('berths', 'booking')).toBe(false);
  });

  it('are all tables of a database that was dropped or made, and none by accounts', () => {
    const found = changed(statement('DROP DATABASE tariffs'), statement("GRANT SELECT ON berths.booking TO 'x'@'%'"));
    expect(found.has('tariffs', 'anything')).toBe(true);
    expect(found.has('berths', 'booking')).toBe(false);
  });

  it('is everything where rows were changed by a statement, or by what is not known', () => {
    for (const e of [
      statement('UPDATE ship SET a = 1'),
      statement('CALL work()'),
      event(17, Buffer.alloc(4)),
      event(eventType.queryCompressed, Buffer.alloc(20)),
    ])
      expect(changed(e).has('berths', 'booking')).toBe(true);
  });
});

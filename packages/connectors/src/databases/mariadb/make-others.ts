import { SourceError } from '../../source-error';
import { otherTypes, type BringBackHooks, type BringBackRule, type DatabaseBack, type OtherBack } from '../family';
import { quoted, type MariadbConnection } from './connection';
import { statementsOf } from './statements';

/** What is made first does not need what is made later. */
const order = otherTypes;

const dropWords: Readonly<Record<OtherBack['type'], (name: string) => string>> = {
  sequence: (name) => `SEQUENCE IF EXISTS ${quoted(name)}`,
  view: (name) => `VIEW IF EXISTS ${quoted(name)}`,
  routine: (name) => {
    const [type = '', ...rest] = name.split(' ');
    return `${type === 'function' ? 'FUNCTION' : 'PROCEDURE'} IF EXISTS ${quoted(rest.join(' '))}`;
  },
  trigger: (name) => `TRIGGER IF EXISTS ${quoted(name)}`,
  event: (name) => `EVENT IF EXISTS ${quoted(name)}`,
};

/** Makes views, routines, triggers, events and sequences of a database; views need each other, so those that fail are tried again as long as others succeed. */
export async function makeOthers(c: MariadbConnection, d: DatabaseBack, rule: BringBackRule, hooks: BringBackHooks): Promise<void> {
  if (rule.exists === 'beside') {
    for (const o of d.others)
      hooks.failed({ path: o.path, remark: 'only tables are put beside: this would take the place of what is there' });
    return;
  }
  await c.run(`USE ${quoted(d.to)}`);
  const known = rule.exists === 'leave' ? await namesOfOthers(c, d.to) : new Set<string>();
  for (const type of order) {
    const own = d.others.filter((o) => o.type === type);
    const isThere = (o: OtherBack) => known.has(`${o.type} ${o.name}`.toLowerCase());
    for (const o of own.filter(isThere)) hooks.done({ path: o.path, action: 'leave', bytes: 0, remark: '' });
    let waiting = own.filter((o) => !isThere(o));
    while (waiting.length) {
      const failed: { other: OtherBack; why: string }[] = [];
      for (const other of waiting) {
        const why = await make(c, other, rule);
        if (why === undefined) {
          hooks.done({ path: other.path, action: rule.exists === 'replace' ? 'replace' : 'write', bytes: 0, remark: '' });
        } else failed.push({ other, why });
      }
      if (failed.length === waiting.length) {
        for (const { other, why } of failed) hooks.failed({ path: other.path, remark: why });
        break;
      }
      waiting = failed.map((f) => f.other);
    }
  }
  await c.run('SET SQL_MODE = DEFAULT, TIME_ZONE = DEFAULT');
}

/** What is there, as type and name in small letters. */
async function namesOfOthers(c: MariadbConnection, database: string): Promise<Set<string>> {
  const rows = await c.rows<{ name: string }>(
    `SELECT CONCAT(IF(table_type = 'VIEW', 'view ', 'sequence '), table_name) AS name FROM information_schema.tables WHERE table_schema = ? AND table_type IN ('VIEW', 'SEQUENCE')
    UNION ALL SELECT CONCAT('routine ', LOWER(routine_type), ' ', routine_name) FROM information_schema.routines WHERE routine_schema = ?
    UNION ALL SELECT CONCAT('trigger ', trigger_name) FROM information_schema.triggers WHERE trigger_schema = ?
    UNION ALL SELECT CONCAT('event ', event_name) FROM information_schema.events WHERE event_schema = ?`,
    [database, database, database, database],
  );
  return new Set(rows.map((r) => r.name.toLowerCase()));
}

/** Why it could not be made; undefined when it was. */
async function make(c: MariadbConnection, other: OtherBack, rule: BringBackRule): Promise<string | undefined> {
  const statements = statementsOf(await other.text());
  try {
    if (rule.exists === 'replace') await c.run(`DROP ${dropWords[other.type](other.name)}`);
    for (const statement of statements) await c.run(statement);
    return undefined;
  } catch (error) {
    if (error instanceof SourceError) return error.message;
    throw error;
  }
}

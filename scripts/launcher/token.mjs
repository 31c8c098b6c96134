// "./lithodex token": an API token for the server whose state folder is given. Works while the server runs.
import { createHash, randomBytes } from 'node:crypto';
import { existsSync } from 'node:fs';
import path from 'node:path';
import { connect } from './installed/database.mjs';
import { readJson } from './installed/state.mjs';

const roles = ['administrator', 'operator', 'clerk', 'auditor', 'mover'];
const allDuties = ['capture', 'keep', 'prune'];

/** The configuration of the server whose state is in a folder: of an installation, or of the demo. Throws where there is none. */
function configIn(state) {
  const file = [path.join(state, 'server', 'config.json'), path.join(state, 'config.json')].find(existsSync);
  if (!file) throw new Error(`There is no server in ${state}. Start one first, or give --state.`);
  return readJson(file);
}

/** Makes a token in the database of a configuration, and gives it. */
export async function makeToken(config, { role, name, duties }) {
  const secret = `lxt_${randomBytes(32).toString('base64url')}`;
  const db = await connect(config);
  try {
    await db.beginTransaction();
    await db.execute('INSERT INTO api_token (name, role, hash, created_at, duties) VALUES (?, ?, ?, ?, ?)', [
      name,
      role,
      createHash('sha256').update(secret).digest('hex'),
      Date.now(),
      duties ? JSON.stringify(duties) : null,
    ]);
    await appendAudit(db, ['command line', 'token.add', `token ${name}`, [role, ...(duties ?? [])].join(' ')]);
    await db.commit();
  } finally {
    await db.end();
  }
  return secret;
}

/** `duties`: of a mover, separated by commas; all when there are none. */
export async function token({ role, name, state, duties }) {
  if (!roles.includes(role) || !name) throw new Error(`token needs --role (${roles.join(', ')}) and --name`);
  const held = duties?.split(',');
  if (held && (role !== 'mover' || held.some((d) => !allDuties.includes(d))))
    throw new Error(`--duties is for movers: some of ${allDuties.join(', ')}, separated by commas`);
  process.stdout.write(`${await makeToken(configIn(state), { role, name, duties: held })}\n`);
}

/** The same chain as the server's audit trail. */
async function appendAudit(db, [actor, action, object, detail]) {
  await db.execute("INSERT IGNORE INTO setting (name, value) VALUES ('audit-head', ?)", [
    JSON.stringify({ hash: '0'.repeat(64), rows: 0 }),
  ]);
  const [[head]] = await db.execute("SELECT value FROM setting WHERE name = 'audit-head' FOR UPDATE");
  const value = typeof head.value === 'string' ? JSON.parse(head.value) : head.value;
  const at = Date.now();
  const hash = createHash('sha256')
    .update(JSON.stringify([value.hash, at, actor, action, object, detail]))
    .digest('hex');
  await db.execute('INSERT INTO audit (at, actor, action, object, detail, previous, hash) VALUES (?, ?, ?, ?, ?, ?, ?)', [
    at,
    actor,
    action,
    object,
    detail,
    value.hash,
    hash,
  ]);
  await db.execute("UPDATE setting SET value = ? WHERE name = 'audit-head'", [JSON.stringify({ hash, rows: value.rows + 1 })]);
}

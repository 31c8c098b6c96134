// "./lithodex token": an API token for the server whose state folder is given. Works while the server runs.
import { createHash, randomBytes } from 'node:crypto';
import { existsSync, readFileSync } from 'node:fs';
import path from 'node:path';
import mysql from 'mysql2/promise';

const roles = ['administrator', 'operator', 'clerk', 'auditor', 'mover'];
const allDuties = ['capture', 'keep', 'prune'];

/** `duties`: of a mover, separated by commas; all when there are none. */
export async function token({ role, name, state, duties }) {
  if (!roles.includes(role) || !name) throw new Error(`token needs --role (${roles.join(', ')}) and --name`);
  const held = duties?.split(',');
  if (held && (role !== 'mover' || held.some((d) => !allDuties.includes(d))))
    throw new Error(`--duties is for movers: some of ${allDuties.join(', ')}, separated by commas`);
  const config = path.join(state, 'config.json');
  if (!existsSync(config)) throw new Error(`There is no server in ${state}. Start the demo first, or give --state.`);
  const { database } = JSON.parse(readFileSync(config, 'utf8'));
  const db = await mysql
    .createConnection({ host: '127.0.0.1', port: database.port, user: database.user, password: database.password, database: database.name })
    .catch(() => {
      throw new Error('The database does not answer. Start the demo, then try again.');
    });
  const secret = `lxt_${randomBytes(32).toString('base64url')}`;
  try {
    await db.beginTransaction();
    await db.execute('INSERT INTO api_token (name, role, hash, created_at, duties) VALUES (?, ?, ?, ?, ?)', [
      name,
      role,
      createHash('sha256').update(secret).digest('hex'),
      Date.now(),
      held ? JSON.stringify(held) : null,
    ]);
    await appendAudit(db, ['command line', 'token.add', `token ${name}`, [role, ...(held ?? [])].join(' ')]);
    await db.commit();
  } finally {
    await db.end();
  }
  process.stdout.write(`${secret}\n`);
}

/** The same chain as the server's audit trail. */
async function appendAudit(db, [actor, action, object, detail]) {
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

import { EngineError } from '@lithodex/engine';
import type { DatabaseServer } from '@lithodex/kinds';
import { SourceError } from '../../source-error';
import type { DatabaseBack, Stopped } from '../family';
import { withPg } from './connection';
import { partsOf, quoted } from './dump-text';
import { startProgram } from './programs';

const editor = 'editor';
const pieceBytes = 1 << 20;
/** Accounts that the text names: they have to be there, and do nothing. */
const named = /\b(?:OWNER TO|TO|FROM|FOR ROLE) ("(?:[^"]|"")+"|[a-z_][a-z0-9_$]*)\s*;/g;

/** Keys to other tables, which are not there: a table that comes back in its place keeps those it has. */
const keysToOthers = /^ALTER TABLE [^;]*\bFOREIGN KEY\b[^;]*;/gm;
const withoutKeys = (text: string) => text.replace(keysToOthers, (key) => key.replace(/[^\n]/g, ''));

function accountsIn(text: string): string[] {
  const names = [...text.matchAll(named)].map(([, name]) => (name!.startsWith('"') ? name!.slice(1, -1).replaceAll('""', '"') : name!));
  return [...new Set(names)].filter((name) => !['public', 'stdin', editor].includes(name));
}

/** Runs a text in a database of a scratch server, as an account that has rights there only. Throws EDITED_REFUSED with what the server said and at which line. */
export async function runText(
  scratch: DatabaseServer,
  { to: database, tables, others }: DatabaseBack,
  password: string,
  text: string,
  stopped: Stopped,
): Promise<void> {
  await withPg(scratch, database, async (c) => {
    await c.run(`CREATE ROLE ${editor} LOGIN NOSUPERUSER`);
    for (const account of accountsIn(text)) {
      const there = await c.row('SELECT 1 FROM pg_roles WHERE rolname = $1', [account]);
      if (!there) await c.run(`CREATE ROLE ${quoted(account)}; GRANT ${quoted(account)} TO ${editor}`);
    }
    await c.run(
      `ALTER DATABASE ${quoted(database)} OWNER TO ${editor}; ALTER SCHEMA public OWNER TO ${editor}; GRANT ALL ON SCHEMA public TO PUBLIC`,
    );
    for (const { name } of [...tables, ...others]) {
      const schema = partsOf(name)?.schema;
      if (schema && schema !== 'public')
        await c.run(
          `CREATE SCHEMA IF NOT EXISTS ${quoted(schema)} AUTHORIZATION ${editor}; GRANT ALL ON SCHEMA ${quoted(schema)} TO PUBLIC`,
        );
    }
  });
  const as: DatabaseServer = { ...scratch, account: editor };
  const program = startProgram('psql', as, as.host, database, ['--no-psqlrc', '--quiet', '--set=ON_ERROR_STOP=1', '--file=-']);
  try {
    // from then on the program runs no commands of its own: who wrote the text does not know the word that ends it
    await program.write(`\\restrict ${password}\n`);
    const bytes = Buffer.from(tables.length === 1 ? withoutKeys(text) : text);
    for (let at = 0; at < bytes.length && !program.closed; at += pieceBytes) {
      if (stopped()) throw new EngineError('STOPPED');
      await program.write(bytes.subarray(at, at + pieceBytes));
    }
    await program.write(`\n\\unrestrict ${password}\n`);
    await program.end();
  } catch (error) {
    program.kill();
    if (!(error instanceof SourceError) || error.code !== 'DUMP_FAILED') throw error;
    const said = error.details.replace(/psql:<stdin>:(\d+): /g, (_, line: string) => `line ${Number(line) - 1}: `);
    throw new SourceError('EDITED_REFUSED', said);
  }
}

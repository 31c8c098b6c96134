import { EngineError } from '@lithodex/engine';
import type { DatabaseServer } from '@lithodex/kinds';
import { SourceError } from '../../source-error';
import type { DatabaseBack, Stopped } from '../family';
import { clientOptions, clientProgram, sandbox } from './bring-back';
import { quoted, quotedText, withMariadb } from './connection';
import { startProgram } from './mariadb-program';

const editor = 'editor';
const pieceBytes = 1 << 20;
/** Lines that come before the text. */
const head = `${sandbox}SET NAMES utf8mb4, FOREIGN_KEY_CHECKS = 0, UNIQUE_CHECKS = 0;\n`;
const headLines = head.split('\n').length - 1;

/** Runs a text in a database of a scratch server, as an account that has rights there only. Throws EDITED_REFUSED with what the server said and at which line. */
export async function runText(
  scratch: DatabaseServer,
  { to: database }: DatabaseBack,
  password: string,
  text: string,
  stopped: Stopped,
): Promise<void> {
  await withMariadb(scratch, async (c) => {
    const who = `'${editor}'@'127.0.0.1'`;
    await c.run(`CREATE USER ${who} IDENTIFIED BY ${quotedText(password)}`);
    await c.run(`GRANT ALL PRIVILEGES ON ${quoted(database).replace(/[_%]/g, '\\$&')}.* TO ${who}`);
  });
  const as: DatabaseServer = { ...scratch, account: editor, password };
  const program = startProgram(clientProgram, as, as.host, [...clientOptions, database]);
  try {
    await program.write(head);
    const bytes = Buffer.from(text);
    for (let at = 0; at < bytes.length && !program.closed; at += pieceBytes) {
      if (stopped()) throw new EngineError('STOPPED');
      await program.write(bytes.subarray(at, at + pieceBytes));
    }
    await program.write('\n');
    await program.end();
  } catch (error) {
    program.kill();
    if (!(error instanceof SourceError) || error.code !== 'DUMP_FAILED') throw error;
    // as its writer counts them
    const said = error.details
      .replace(/^-+ .*? -+ /, '')
      .replace(/at line (\d+)/, (_, line: string) => `at line ${Number(line) - headLines}`);
    throw new SourceError('EDITED_REFUSED', said);
  }
}

import { randomBytes } from 'node:crypto';
import { itemNameOf } from '@lithodex/core';
import type { RestorePick } from '../connector';
import { SourceError } from '../source-error';
import { everythingOf } from './everything-of';
import { quietly, type BringBackHooks, type DatabaseBack, type Family } from './family';

/**
 * What a text makes in a scratch server that somebody edited: what is wrong with it shows there, and nothing but tables and the like comes from there, by the way that stored ones take. It runs with the
 * rights of an account that reaches its own database only: no files, no programs, no other accounts. `use` is given what it made. Throws SourceError, EDITED_REFUSED with what the server said.
 */
export async function fromEdited(
  family: Family,
  database: DatabaseBack,
  pick: RestorePick,
  text: string,
  hooks: BringBackHooks,
  use: (made: DatabaseBack) => Promise<void>,
): Promise<void> {
  hooks.phase('starting a scratch server');
  const scratch = await family.scratch();
  try {
    hooks.phase('trying the edited text');
    const { to } = database;
    await family.bringBack(
      scratch.server,
      [{ to, text: database.text, tables: [], others: [] }],
      { exists: 'leave', suffix: '' },
      quietly(hooks),
    );
    await family.runText(scratch.server, database, randomBytes(24).toString('hex'), text, hooks.stopped);
    const reading = await family.read(scratch.server);
    try {
      const made = (await everythingOf(reading)).find((d) => d.to === to);
      if (!made || made.tables.length + made.others.length === 0) throw new SourceError('EDITED_REFUSED', 'it makes nothing');
      const whole = pick.path === '' || pick.path === itemNameOf(to);
      await use({ ...made, text: database.text, around: whole ? made.around : undefined });
    } finally {
      await reading.close();
    }
  } finally {
    await scratch.stop();
  }
}

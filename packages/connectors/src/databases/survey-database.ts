import { countOf, formatBytes } from '@lithodex/core';
import type { DatabaseFrom } from '@lithodex/kinds';
import type { SurveyContext, Surveyed } from '../connector';
import { familyOf } from './families';

/** Looks whether a database server could be backed up: sign-in, rights, what there is. Reads no rows. Throws SourceError. */
export async function surveyDatabase(ctx: SurveyContext, { server }: DatabaseFrom): Promise<Surveyed> {
  const family = familyOf(server.family);
  const { needs, remarks } = await family.test(server);
  const missing = needs.filter((n) => n.missing && n.neededFor.startsWith('to read'));
  for (const { right, neededFor } of missing)
    ctx.say('warning', { code: 'RIGHT_MISSING', path: '', message: `the account lacks ${right}, needed ${neededFor}` });
  for (const message of remarks) ctx.say('note', { code: 'REMARK', path: '', message });
  const { databases } = await family.facts(server);
  const bytes = databases.reduce((sum, d) => sum + d.bytes, 0);
  const tables = databases.reduce((sum, d) => sum + d.tables, 0);
  ctx.say(ctx.free !== null && ctx.free < bytes ? 'warning' : 'note', {
    code: 'SIZE',
    path: '',
    message: `${countOf(databases.length, 'database')} with ${countOf(tables, 'table')}, about ${formatBytes(bytes)} on the server; nothing was moved`,
  });
  return { items: tables, files: tables, bytes, warnings: missing.length, missing: 0 };
}

import type { Knex } from 'knex';

/** Runs statements that are separated by semicolons at the ends of lines. */
export async function runAll(k: Knex, sql: string): Promise<void> {
  for (const statement of sql.split(/;\n/)) if (statement.trim()) await k.raw(statement.trim().replace(/;$/, ''));
}

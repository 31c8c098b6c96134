import type { Knex } from 'knex';

interface TermsRow {
  readonly drained: 0 | 1;
  readonly place: string;
}

/** What a mover may be given: nothing while it is drained; `place` tells where it stands, '' where nobody said. */
export async function moverTerms(db: Knex, name: string): Promise<{ drained: boolean; place: string }> {
  const row = await db('mover').where({ name }).first<TermsRow | undefined>('drained', 'place');
  return { drained: row?.drained === 1, place: row?.place ?? '' };
}

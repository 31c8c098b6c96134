import { it } from 'vitest';

const long = process.env['LITHODEX_LONG'] === '1';

/** A test that takes long and shows what others show more briefly: run by "./lithodex test long" only. */
export const itLong = it.runIf(long);

/** How many rounds a test goes through: so many as a rule, more where it was asked for at length. */
export const rounds = (asARule: number, atLength: number): number => (long ? atLength : asARule);

import { it } from 'vitest';

/** A test that takes long and shows what others show more briefly: run by "./lithodex test long" only. */
export const itLong = it.runIf(process.env['LITHODEX_LONG'] === '1');

import { version as written } from '../../../../package.json';

/** Version of Lithodex, as its package says. */
export const version = written;

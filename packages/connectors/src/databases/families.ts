import type { DatabaseFamily } from '@lithodex/kinds';
import type { Family } from './family';
import { mariadb } from './mariadb/mariadb';

const families: Readonly<Record<DatabaseFamily, Family>> = { mariadb };

/** The family of a database server. */
export const familyOf = (name: DatabaseFamily): Family => families[name];

import type { DatabaseFamily } from '@lithodex/kinds';
import type { Family } from './family';
import { mariadb } from './mariadb/mariadb';
import { postgresql } from './postgresql/postgresql';

const families: Readonly<Record<DatabaseFamily, Family>> = { mariadb, postgresql };

/** The family of a database server. */
export const familyOf = (name: DatabaseFamily): Family => families[name];

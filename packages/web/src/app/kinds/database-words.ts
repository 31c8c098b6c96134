import type { WorkloadRow } from '@lithodex/contract';
import type { DatabaseFacts } from '@lithodex/kinds';

export type Family = DatabaseFacts['family'];

/** What is known of a database server; null for what is none. */
export const databaseFacts = ({ facts }: WorkloadRow): DatabaseFacts | null => (facts?.kind === 'database' ? facts : null);

/** How a family of servers is called, and on which port its servers usually listen. */
export const families: Readonly<Record<Family, { readonly label: string; readonly port: number }>> = {
  mariadb: { label: 'MariaDB', port: 3306 },
  postgresql: { label: 'PostgreSQL', port: 5432 },
};

export const familyNames = Object.keys(families) as Family[];

/** What serves, with the number of its version, without what its maker puts behind that. */
export const serverWords = ({ family, version }: Pick<DatabaseFacts, 'family' | 'version'>): string =>
  `${families[family].label} ${/^[\d.]+/.exec(version)?.[0] ?? version}`;

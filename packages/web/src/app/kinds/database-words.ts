import type { WorkloadFacts } from '@lithodex/contract';

const families: Readonly<Record<WorkloadFacts['family'], string>> = { mariadb: 'MariaDB' };

/** What serves, with the number of its version, without what its maker puts behind that. */
export const serverWords = ({ family, version }: Pick<WorkloadFacts, 'family' | 'version'>): string =>
  `${families[family]} ${/^[\d.]+/.exec(version)?.[0] ?? version}`;

import type { DrillCheck, DrillPlan } from '@lithodex/contract';
import type { KindName } from '@lithodex/kinds';

/** What can be looked at in drills of a kind, beside what always is. */
export function checksOf(kind: KindName): readonly DrillCheck['check'][] {
  if (kind === 'database') return ['query', 'script'];
  if (kind === 'machine') return ['service', 'file', 'script'];
  if (kind === 'application') return ['script'];
  return ['file', 'count', 'script'];
}

/** What each kind comes back to, and what is always looked at there. */
export const roomWords: Readonly<Record<KindName, string>> = {
  files: 'It comes back to a folder of a mover; every file is read again and held against what was stored.',
  machine: 'It is started straight from the store as a machine of its own, on no network, and has to go on running.',
  database: 'It comes back to a database server of a mover; every table has to hold as many rows as were stored.',
  tenant: 'Its messages and files come back to a folder of a mover; each is read again and held against what was stored.',
  bucket: 'Its objects come back to a folder of a mover; each is read again and held against what was stored.',
  share: 'Its files come back to a folder of a mover; each is read again and held against what was stored.',
  application:
    'It comes back to a namespace of its own, cut off from every network and without its routes and jobs; everything that runs in it has to be up.',
};

export const checkNames: Readonly<Record<DrillCheck['check'], string>> = {
  file: 'A file',
  count: 'So many files',
  query: 'A question to a database',
  service: 'A service inside',
  script: 'A script of the mover',
};

/** A check of a kind with nothing said yet. */
export function emptyCheck(check: DrillCheck['check']): DrillCheck {
  switch (check) {
    case 'file':
      return { check, path: '', sum: '', holds: '' };
    case 'count':
      return { check, path: '', least: 1 };
    case 'query':
      return { check, database: '', sql: 'SELECT COUNT(*) FROM ', is: 'least', value: '1' };
    case 'service':
      return { check, name: '' };
    case 'script':
      return { check, name: '', minutes: 15 };
  }
}

/** What is looked at, in a few words. */
export function planWords({ checks, objective, weight }: DrillPlan, objectiveWords: string): string {
  const parts = [
    checks.length === 0 ? 'what is always looked at' : checks.length === 1 ? 'one check besides' : `${checks.length} checks besides`,
    ...(objective === null ? [] : [`usable within ${objectiveWords}`]),
    ...(weight === 0 ? ['not on the rota'] : weight > 1 ? [`weight ${weight}`] : []),
  ];
  return parts.join(', ');
}

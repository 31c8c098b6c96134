import { describe, expect, it } from 'vitest';
import { familyOf, heldBy } from './services';

describe('what programs inside a machine keep', () => {
  it('is told by their names, each kind once', () => {
    expect(heldBy(['cron', 'mariadbd', 'postgres', 'dovecot'])).toEqual([
      { held: 'database', by: 'mariadbd' },
      { held: 'mail store', by: 'dovecot' },
    ]);
    expect(heldBy(['postgresql@15-main'])).toEqual([{ held: 'database', by: 'postgresql@15-main' }]);
  });

  it('has a family where it can be connected', () => {
    expect(['mariadbd', 'mysqld', 'postgres', 'redis-server'].map(familyOf)).toEqual(['mariadb', 'mariadb', 'postgresql', undefined]);
  });

  it('is nothing for others, whatever part of a name fits', () => {
    expect(heldBy([])).toEqual([]);
    expect(heldBy(['cron', 'redistribute', 'mysqlish', 'predovecot'])).toEqual([]);
  });
});

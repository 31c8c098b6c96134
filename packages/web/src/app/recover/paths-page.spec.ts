import { TestBed } from '@angular/core/testing';
import { describe, expect, it } from 'vitest';
import type { Found } from '@lithodex/contract';
import { uuid } from '../../test/samples';
import { day, now, open, words, type Call } from '../../test/stage';
import { Picks } from '../data/picks';

const found = (path: string, workload = 1, more: Partial<Found> = {}): Found => ({
  workload: { id: workload, name: `quay-${workload}` },
  path,
  kind: 'file',
  size: 1000,
  versions: 1,
  firstSeen: now - 9 * day,
  lastSeen: now - day,
  lastPointId: uuid(workload),
  stillThere: true,
  ...more,
});
const findPaths = (call: Call) => ({
  rows: (call.body as { paths: string[] }).paths.map((line) => ({
    line,
    found:
      line === 'lost.txt'
        ? []
        : line === 'twice.txt'
          ? [found(line, 1), found(line, 2)]
          : [found(line.replace('/srv/quay/', ''), 1, { stillThere: false })],
    more: false,
  })),
});

describe('a list of paths', () => {
  it('says of each line whether it was found, in several places, or not, and picks what is certain', async () => {
    const s = await open('/recover/list', { answers: { findPaths } });
    await s.type('textarea', '/srv/quay/plan.txt\n\ntwice.txt\n lost.txt \ntwice.txt\n');
    await s.click('Find 3 paths');
    expect(s.api.last('findPaths')?.body).toEqual({ paths: ['/srv/quay/plan.txt', 'twice.txt', 'lost.txt'] });
    expect(s.all('tbody tr').map(words)).toEqual([
      expect.stringMatching(/^\/srv\/quay\/plan.txt quay-1 1.00 kB .* then gone$/),
      expect.stringContaining('twice.txt quay-1'),
      expect.stringContaining('twice.txt quay-2'),
      'lost.txt in no point',
    ]);
    await s.click('1 not found');
    expect(s.all('tbody tr')).toHaveLength(1);
    await s.click('Pick the 1 in one place');
    expect(TestBed.inject(Picks).items()).toMatchObject([{ path: 'plan.txt', workload: 'quay-1' }]);
    expect(s.text()).toContain('Open the restore sheet, 1 item');
  });
});

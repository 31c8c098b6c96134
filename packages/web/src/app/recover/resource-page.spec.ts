import { describe, expect, it } from 'vitest';
import { point, workloadDetail } from '../../test/samples';
import { now, open, words } from '../../test/stage';
import { besideEachOther } from './resource-page';

describe('a resource beside the one of now', () => {
  it('has equal lines beside each other, and what changed, came and went where it is', () => {
    const then = 'a: 1\nb: 2\nc: 3\nd: 4\n';
    expect(besideEachOther({ then, now: 'a: 1\nb: 9\nc: 3\nd: 4\ne: 5\n' })).toEqual([
      { then: 'a: 1', now: 'a: 1' },
      { then: 'b: 2', now: 'b: 9' },
      { then: 'c: 3', now: 'c: 3' },
      { then: 'd: 4', now: 'd: 4' },
      { then: undefined, now: 'e: 5' },
    ]);
    expect(besideEachOther({ then: 'a: 1\n', now: null })).toEqual([{ then: 'a: 1', now: undefined }]);
    expect(besideEachOther({ then, now: then }).every((r) => r.then === r.now)).toBe(true);
  });

  it('goes to the sheet from there', async () => {
    const taken = point(1, now - 3_600_000);
    const answers = {
      workload: workloadDetail([taken], { id: 4, name: 'tide-board', kind: 'application' }),
      resourcePair: { then: 'replicas: 4\n', now: 'replicas: 2\n' },
    };
    const s = await open(`/estate/4/resource?point=${taken.id}&path=resources/Deployment.apps/board.yaml`, { answers });
    expect(s.api.last('resourcePair')).toMatchObject({ query: { path: 'resources/Deployment.apps/board.yaml' } });
    expect(words(s.one('.page'))).toContain('1 line otherwise');
    expect(words(s.one('tbody'))).toBe('replicas: 4 replicas: 2');
    await s.click('Restore this one');
    expect(s.url()).toBe('/recover/sheet');
  });
});

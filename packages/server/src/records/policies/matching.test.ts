import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { matchAmong, selectionFacts, type Candidate } from './matching';

const candidate = (id: number, name: string, tags: readonly string[] = [], source = 'quay'): Candidate => ({
  id,
  name,
  facts: selectionFacts(name, 'files', { name: source, location: 'Harbour', folder: `/srv/${name}` }, null, tags),
});
const nothing = { workloads: [], tags: [], rule: '', except: '' };

describe('what a policy matches', () => {
  const all = [candidate(1, 'tides', ['room: north']), candidate(2, 'charts'), candidate(3, 'berths', ['room: south', 'gates'])];

  it('is named, tagged or picked by its rule, each with the first reason, by name', () => {
    expect(matchAmong(all, { ...nothing, workloads: [1], tags: ['room: north', 'gates'], rule: 'name charts' })).toEqual([
      { id: 3, name: 'berths', why: 'tagged gates' },
      { id: 2, name: 'charts', why: expect.any(String) as string },
      { id: 1, name: 'tides', why: 'chosen by name' },
    ]);
    expect(matchAmong(all, nothing)).toEqual([]);
  });

  it('is never what is excepted, even by name', () => {
    expect(matchAmong(all, { ...nothing, workloads: [1, 2, 3], except: 'tag gates' }).map((m) => m.id)).toEqual([2, 1]);
  });

  it('says where a rule can not be read, and changes nothing', () => {
    expect(() => matchAmong(all, { ...nothing, rule: 'name' })).toThrow(expect.objectContaining({ code: 'INVALID' }) as Error);
    expect(() => matchAmong(all, { ...nothing, except: '(' })).toThrow(expect.objectContaining({ code: 'INVALID' }) as Error);
  });

  it('holds for each workload alone: whoever else is there makes no difference', () => {
    const tags = fc.subarray(['a', 'b', 'c']);
    const many = fc.array(fc.tuple(fc.stringMatching(/^[a-z]{1,8}$/), tags), { maxLength: 12 });
    fc.assert(
      fc.property(many, tags, fc.array(fc.nat(11)), (workloads, wanted, named) => {
        const list = workloads.map(([name, own], i) => candidate(i, name, own));
        const body = { ...nothing, workloads: named, tags: wanted, except: 'tag c' };
        const together = matchAmong(list, body);
        const alone = list.flatMap((w) => matchAmong([w], body));
        expect(new Set(together.map((m) => m.id))).toEqual(new Set(alone.map((m) => m.id)));
        expect(together).toHaveLength(alone.length);
        const order = new Intl.Collator('en');
        for (const [i, m] of together.slice(1).entries()) expect(order.compare(together[i]!.name, m.name)).toBeLessThanOrEqual(0);
      }),
    );
  });
});

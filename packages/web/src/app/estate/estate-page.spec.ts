import { ApiFailure } from '../data/api';
import { describe, expect, it } from 'vitest';
import type { WorkloadRow } from '@lithodex/contract';
import { estate, estateOf, machineFacts, workload } from '../../test/samples';
import { day, now, open, words } from '../../test/stage';

const list = [
  workload(1, { name: 'berth-desk', tags: ['room: north'] }),
  workload(2, { name: 'crane-logs', coverage: 'none', policies: [], newestPoint: null, points: 0, oldestPoint: null }),
  workload(3, { name: 'tide-gauge', late: true, source: { id: 5, name: 'tide', location: '', folder: '/srv/tide' } }),
];
const three = estateOf(list);
const names = (s: { all(q: string): HTMLElement[] }) => s.all('.list-row b').map((b) => b.textContent);

describe('the estate', () => {
  it('lists every workload with what protects it, and counts by state', async () => {
    const s = await open('/estate', { answers: { estate: three } });
    expect(names(s)).toEqual(['berth-desk', 'crane-logs', 'tide-gauge']);
    expect(s.all('.chip').map((c) => c.textContent.trim())).toEqual([
      '3 all',
      '1 unprotected',
      '1 past the objective',
      '2 protected',
      'changes',
    ]);
    const rows = s.all('.list-row[aria-rowindex]').map((r) => words(r));
    expect(rows[0]).toContain('Nightly Sun 22 Nov 22:00');
    expect(rows[1]).toContain('nothing unprotected');
    expect(rows[2]).toContain('place unknown');
    expect(rows[2]).toContain(', past 24 h');
  });

  it('filters by state, by text and by tag, all in the address', async () => {
    const s = await open('/estate', { answers: { estate: three } });
    await s.click('1 unprotected');
    expect(s.url()).toBe('/estate?show=none');
    expect(names(s)).toEqual(['crane-logs']);
    await s.click('3 all');
    await s.type('[data-filter]', 'GAUGE');
    expect(s.url()).toBe('/estate?q=GAUGE');
    expect(names(s)).toEqual(['tide-gauge']);
    await s.type('[data-filter]', '');
    await s.click('room: north');
    expect(s.url()).toBe('/estate?tag=room: north');
    expect(names(s)).toEqual(['berth-desk']);
    await s.click('tagged room: north ✕');
    expect(names(s)).toHaveLength(3);
  });

  it('asks for the estate as it was at the moment that is set', async () => {
    const at = now - 3 * day;
    const s = await open(`/estate?at=${at}`, { answers: { estate: three } });
    expect(s.api.last('estate')?.query).toEqual({ at, limit: 200, offset: 0 });
    expect(s.text()).toContain('as of Fri 20 Nov 09:00');
    await s.press('Enter');
    expect(s.url()).toBe(`/estate/1?at=${at}`);
  });

  it('is walked with the keyboard, unless single keys are off or a dialog is open', async () => {
    const s = await open('/estate', { answers: { estate: three } });
    await s.press('j');
    await s.press('j');
    await s.press('j');
    await s.press('k');
    expect(s.all('.list-row[aria-rowindex]').findIndex((r) => r.classList.contains('on'))).toBe(1);
    await s.go('/estate?connect=yes');
    await s.press('j');
    expect(s.all('.list-row[aria-rowindex]').findIndex((r) => r.classList.contains('on'))).toBe(1);
    await s.go('/estate');
    await s.press('Enter');
    expect(s.url()).toBe('/estate/2');
  });

  it('shows one tag in full and counts the others, which can be read by pointing there', async () => {
    const s = await open('/estate', {
      answers: { estate: estate([workload(1, { name: 'quay-1', tags: ['area: berths', 'nightly', 'north'] })]) },
    });
    expect(s.all('.list-row .tag').map((t) => t.textContent)).toEqual(['area: berths']);
    const more = s.one('.list-row [title="area: berths, nightly, north"]');
    expect(more.textContent).toBe('+2');
    await s.click('area: berths');
    expect(s.url()).toContain('tag=area');
  });

  it('says what to do when nothing is connected, and that nothing fits when a filter is too narrow', async () => {
    const s = await open('/estate?q=zzz', { answers: { estate: three } });
    expect(s.text()).toContain('Nothing fits this filter');
    s.api.answers.estate = estate([]);
    s.live.tell('estate');
    await s.settle();
    expect(s.text()).toContain('Nothing is connected yet');
  });

  it('goes on after a failure when the next change arrives', async () => {
    const s = await open('/estate', { answers: { estate: new ApiFailure('UNREACHABLE', 'The server does not answer.', undefined) } });
    expect(s.one('.problem').textContent).toContain('does not answer');
    s.api.answers.estate = three;
    s.live.tell('progress');
    await s.settle();
    expect(names(s)).toEqual([]);
    s.live.tell('run');
    await s.settle();
    expect(names(s)).toHaveLength(3);
    expect(s.all('.problem')).toEqual([]);
  });

  it('offers to connect only to those who may', async () => {
    const s = await open('/estate', { answers: { estate: three }, role: 'operator' });
    expect(s.all('button').some((b) => b.textContent.includes('Connect'))).toBe(false);
  });
});

describe('machines of the estate', () => {
  const machines = [
    workload(1, { name: 'gate-01', kind: 'machine', machine: machineFacts, coverage: 'none', policies: [], newestPoint: null, points: 0 }),
    workload(2, { name: 'crane-old', gone: now - day }),
  ];
  const nodes = [
    { path: 'harbour', name: 'harbour', depth: 0, count: 1, open: 1 },
    { path: 'harbour/mole-1', name: 'mole-1', depth: 1, count: 1, open: 1 },
  ];
  const platform = {
    id: 7,
    name: 'Harbour platform',
    endpoint: 'http://platform',
    by: 'password',
    account: 'keeper',
    passwordEnds: null,
    readAt: now - 5 * 60_000,
    trouble: null,
    machines: 1,
    readers: null,
  };
  const answers = {
    estate: (c: { query?: Record<string, unknown> }) => ({ ...estateOf(machines)(c), nodes: c.query?.['by'] ? nodes : [] }),
    listPlatforms: { rows: [platform] },
  };

  it('are told by where they are, and how quiet their points will be', async () => {
    const s = await open('/estate', { answers });
    expect(words(s.all('.list-row[aria-rowindex]')[0]!)).toContain('Server room mole-1');
    expect(words(s.all('.list-row[aria-rowindex]')[1]!)).toContain(', gone');
    await s.click(s.one('.peek'));
    expect(words(s.one('lx-machine-peek'))).toContain('As after a loss of power: a helper or an account inside would raise that');
    expect(words(s.one('lx-machine-peek'))).toContain('system 8.00 GB on fast');
  });

  it('are walked by hierarchy, the part that is chosen being in the address', async () => {
    const s = await open('/estate', { answers });
    const by = s.one<HTMLSelectElement>('lx-estate-tree select');
    by.value = 'host';
    by.dispatchEvent(new Event('change'));
    await s.settle();
    expect(s.url()).toBe('/estate?by=host');
    await s.click(s.all('.node')[2]!);
    expect(s.url()).toBe('/estate?by=host&part=harbour/mole-1');
    expect(s.api.last('estate')?.query).toMatchObject({ by: 'host', in: 'harbour/mole-1' });
    await s.click(s.all('.node')[1]!);
    await s.click(s.all('.node')[1]!);
    expect(s.all('.node')).toHaveLength(2);
  });

  it('are read again from their platform, and what changed is told', async () => {
    const read = { machines: 34, fresh: 1, gone: 0, moved: 2 };
    const changes = [{ id: 1, at: now, workload: { id: 1, name: 'gate-01' }, what: 'moved', detail: 'from host mole-2 to mole-1' }];
    const s = await open('/estate', {
      answers: { ...answers, readPlatform: read, estateChanges: { rows: changes, next: null, total: null } },
    });
    await s.click('read again');
    expect(words(s.one('lx-platform-strip'))).toContain('34 machines: 1 new, 2 moved');
    await s.click('changes');
    expect(words(s.one('lx-estate-changes'))).toContain('gate-01 moved from host mole-2 to mole-1');
  });

  it('are ticked and put into a policy, where one sees what that does', async () => {
    const s = await open('/estate', { answers });
    await s.press('x');
    await s.click(s.all('.list-row[aria-rowindex] input[type=checkbox]')[1]!);
    expect(words(s.one('.chosen'))).toContain('2 ticked');
    expect(words(s.one('.chosen'))).toContain(
      '1 gone: nothing new can be taken · 1 without a helper or account inside: as after a loss of power',
    );
    const choose = s.one<HTMLSelectElement>('.chosen select');
    choose.value = 'new';
    choose.dispatchEvent(new Event('change'));
    await s.settle();
    expect(s.url()).toBe('/policies/new?plus=1,2');
  });
});

describe('ticking all', () => {
  const many = Array.from({ length: 1200 }, (_, i) => workload(i + 1, { name: `w-${i + 1}` }));
  const paged = (rows: readonly WorkloadRow[]) => (c: { query?: Record<string, unknown> }) => {
    const [offset, limit] = [Number(c.query?.['offset'] ?? 0), Number(c.query?.['limit'] ?? 200)];
    return { ...estateOf([...rows])(c), total: rows.length, workloads: rows.slice(offset, offset + limit) };
  };
  const tickAll = (s: Awaited<ReturnType<typeof open>>) => s.click(s.one('[aria-label="Tick all that fit"]'));

  it('takes in what was not fetched yet, and ends with another tick', async () => {
    const s = await open('/estate?q=w', { answers: { estate: paged(many.slice(0, 730)) } });
    await tickAll(s);
    await s.until(() => {
      expect(words(s.one('.chosen'))).toContain('730 ticked');
    });
    expect(s.api.of('estate').slice(-2)).toMatchObject([{ query: { q: 'w', offset: 0 } }, { query: { q: 'w', offset: 500 } }]);
    expect(words(s.one('.chosen'))).toContain('730 protected already');
    await tickAll(s);
    expect(s.all('.chosen')).toEqual([]);
  });

  it('says where there are more than can be ticked, and what picks them', async () => {
    const s = await open('/estate', { answers: { estate: paged(many) } });
    await tickAll(s);
    await s.until(() => {
      expect(words(s.one('.chosen'))).toContain('1\u202f000 ticked the first of 1\u202f200: a rule picks more');
    });
  });

  it('ticks nothing where it is refused, and says so', async () => {
    let calls = 0;
    const s = await open('/estate', {
      answers: {
        estate: (c: { query?: Record<string, unknown> }) =>
          c.query?.['limit'] === 500 && ++calls ? new ApiFailure('OFFLINE', 'The server does not answer.', undefined) : paged(many)(c),
      },
    });
    await tickAll(s);
    expect(s.one('[role=alert]').textContent).toContain('The server does not answer.');
    expect(s.all('.chosen')).toEqual([]);
    expect(calls).toBe(1);
  });
});

describe('a look into a source', () => {
  const rows = [
    { name: 'plans', path: 'plans', kind: 'folder', size: 0, mtime: now, readable: true, leftOut: '' },
    { name: 'swap.img', path: 'swap.img', kind: 'file', size: 5e9, mtime: now, readable: true, leftOut: 'by *.img' },
    { name: 'secret', path: 'secret', kind: 'file', size: 10, mtime: now, readable: false, leftOut: '' },
  ];

  it('walks folders, and says what is left out and what can not be read', async () => {
    const s = await open('/estate', { answers: { estate: three, discover: { path: '', rows, readAt: now } } });
    await s.click(s.one('.peek'));
    const peek = words(s.one('lx-folder-peek'));
    expect(peek).toContain('swap.img left out by *.img 5.00 GB');
    expect(peek).toContain('secret can not be read');
    expect(peek).toContain('▸ plans protected');
    await s.click('▸ plans');
    expect(s.api.last('discover')).toMatchObject({ id: 101, query: { path: 'plans' } });
    expect(s.one('lx-folder-peek').textContent).toContain('/srv/quay-1/plans');
    await s.click('up');
    expect(s.api.last('discover')?.query).toEqual({});
    const asked = s.api.of('discover').length;
    await s.click('read again');
    expect(s.api.of('discover')).toHaveLength(asked + 1);
    await s.click(s.one('.peek'));
    expect(s.all('lx-folder-peek')).toEqual([]);
  });

  it('keeps a refusal beside the folder it is about', async () => {
    const gone = new ApiFailure('SOURCE_GONE', 'The folder is not there.', undefined);
    const s = await open('/estate', { answers: { estate: three, discover: gone } });
    await s.click(s.one('.peek'));
    expect(s.one('lx-folder-peek .f').textContent).toContain('The folder is not there.');
  });
});

describe('connecting a source', () => {
  const test = {
    ok: true,
    findings: [{ level: 'warning', path: 'private', message: 'Permission denied.', neededFor: 'its contents' }],
    looked: 812,
    complete: false,
  };
  const fill = async (s: Awaited<ReturnType<typeof open>>) => {
    await s.type('input[name=name]', ' quay-9 ');
    await s.type('input[name=folder]', '/srv/quay-9');
    await s.type('input[name=tags]', 'room: north, , books');
  };

  it('tests first and names what can not be read; a changed folder makes the test void', async () => {
    const s = await open('/estate?connect=yes', { answers: { estate: three, testSource: test } });
    await fill(s);
    await s.click('Test the connection');
    expect(s.api.last('testSource')?.body).toMatchObject({
      name: 'quay-9',
      folder: '/srv/quay-9',
      readAs: null,
      readBy: null,
      tags: ['room: north', 'books'],
    });
    expect(s.one('.result').textContent).toContain('not everything');
    expect(s.one('.finding').textContent).toContain('private Permission denied. Needed its contents.');
    expect(s.one('.result').textContent).toContain('812 entries looked at, not all');
    await s.type('input[name=folder]', '/srv/other');
    expect(s.all('.result')).toEqual([]);
  });

  it('leads to the new workload, or keeps what was typed beside the refusal', async () => {
    const taken = new ApiFailure('NAME_TAKEN', 'There is a source of this name.', undefined);
    const s = await open('/estate?connect=yes', { answers: { estate: three, addSource: taken } });
    await fill(s);
    await s.click('Connect');
    expect(s.one('[role=alert]').textContent).toContain('There is a source of this name.');
    expect(s.one<HTMLInputElement>('input[name=folder]').value).toBe('/srv/quay-9');
    s.api.answers.addSource = { id: 109, workloadId: 9 };
    await s.click(s.one('button[type=submit]'));
    expect(s.url()).toBe('/estate/9');
  });
});

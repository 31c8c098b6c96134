import { describe, expect, it, vi } from 'vitest';
import { run } from '../../test/samples';
import { now, open, page, words } from '../../test/stage';
import { ApiFailure } from '../data/api';

const rows = [
  run(12, { state: 'running', endedAt: null, startedAt: now - 60_000 }),
  run(11, { state: 'failed', cause: { code: 'TARGET_FULL', message: 'The target is full.', remedy: 'Make room.' } }),
  run(10, {
    kind: 'restore',
    name: 'Berth plans',
    workloads: [
      { id: 1, name: 'quay-1' },
      { id: 2, name: 'quay-2' },
    ],
    workloadCount: 14,
  }),
];
const policies = page([]);

describe('the runs', () => {
  const stage = (url = '/runs', list: unknown = page(rows)) =>
    open(url, { answers: { listRuns: list, listPolicies: policies, listFilters: { rows: [] } } });

  it('asks for what the address says', async () => {
    const s = await stage('/runs?states=failed&kinds=backup&workload=3&q=night&sort=name');
    await s.until(() => {
      expect(s.api.last('listRuns')?.query).toMatchObject({ states: 'failed', kinds: 'backup', workload: '3', q: 'night', sort: 'name' });
    });
    expect(s.text()).toContain('3 fit');
  });

  it('gives what is filtered a name, opens it by that and forgets it', async () => {
    const known = { id: 4, name: 'Failed lately', query: { states: 'failed', hours: '24' } };
    const answers = {
      listRuns: page(rows),
      listPolicies: policies,
      listFilters: { rows: [known] },
      saveFilter: { id: 5 },
      removeFilter: {},
    };
    const s = await open('/runs?q=night', { answers });
    const choose = async (label: string) => {
      if (!document.querySelector('.saved.show')) await s.click('Filters');
      const found = [...document.querySelectorAll<HTMLElement>('.saved.show button')].find(
        (b) => words(b) === label || b.ariaLabel === label,
      );
      await s.click(found!);
    };
    await s.click('Filters');
    document.querySelector<HTMLInputElement>('.saved.show input')!.value = 'Nights';
    await choose('Keep');
    expect(s.api.last('saveFilter')?.body).toEqual({ name: 'Nights', query: { q: 'night' } });
    await choose('Forget Failed lately');
    expect(s.api.last('removeFilter')?.id).toBe(4);
    await choose('Failed lately');
    expect(s.url()).toBe('/runs?states=failed&hours=24');
    expect(s.button('Failed lately')).toBeTruthy();
  });

  const limited = (tasks: number | null) => ({ listRuns: page(rows), listPolicies: policies, limits: { tasks }, limitAll: {} });

  it('lets an administrator say how many tasks run at once in all', async () => {
    const s = await open('/runs', { answers: limited(null) });
    await s.fill('tasks at once in all', '4 tasks');
    expect(s.api.last('limitAll')?.body).toEqual({ tasks: 4 });
  });

  it('shows an operator how many tasks run at once', async () => {
    const s = await open('/runs', { answers: limited(1), role: 'operator' });
    const slot = s.one<HTMLButtonElement>('lx-limit-of-all .slot');
    expect([words(slot), slot.disabled]).toEqual(['1 task', true]);
  });

  it('puts every filter into the address, and takes narrowings away', async () => {
    const s = await stage('/runs?workload=3');
    await s.choose('[aria-label=State]', 'running,waiting');
    await s.choose('[aria-label=Kind]', 'trial');
    await s.choose('[aria-label=Time]', '72');
    await s.type('[data-filter]', 'north');
    expect(s.url()).toBe('/runs?workload=3&states=running,waiting&kinds=trial&hours=72&q=north');
    await s.click('Widen');
    expect(s.url()).toBe('/runs?states=running,waiting&kinds=trial&hours=72&q=north');
    await s.until(() => {
      expect(s.api.last('listRuns')?.query).toMatchObject({ q: 'north', kinds: 'trial' });
    });
    const from = Number(s.api.last('listRuns')?.query?.['from']);
    expect(Math.abs(from - (now - 72 * 3_600_000))).toBeLessThan(120_000);
  });

  it('turns the order round when a head is clicked again', async () => {
    const s = await stage();
    await s.click('What');
    expect(s.url()).toBe('/runs?sort=-name');
    await s.click('What');
    expect(s.url()).toBe('/runs?sort=name');
  });

  it('writes what is shown as CSV with the causes', async () => {
    const blobs: Blob[] = [];
    vi.stubGlobal('URL', Object.assign(URL, { createObjectURL: (b: Blob) => (blobs.push(b), 'blob:x'), revokeObjectURL: () => undefined }));
    const s = await stage();
    await s.until(() => {
      expect(s.text()).toContain('3 fit');
    });
    await s.click('CSV of what is shown');
    const lines = (await blobs[0]!.text()).trim().split(/\r?\n/);
    expect(lines).toHaveLength(4);
    expect(lines[2]).toContain('failed');
    expect(lines[2]).toContain('The target is full.');
    expect(lines[3]).toContain('"quay-1, quay-2 and 12 more"');
  });

  it('opens the run the keys stand on', async () => {
    const s = await stage();
    await s.until(() => {
      expect(s.text()).toContain('3 fit');
    });
    await s.press('j');
    await s.press('Enter');
    expect(s.url()).toBe('/runs/11');
  });

  it('says when nothing fits, and shows a refusal', async () => {
    const s = await stage('/runs', page([]));
    await s.until(() => {
      expect(s.text()).toContain('No run fits these filters.');
    });
    s.api.answers.listRuns = new ApiFailure('BAD_CURSOR', 'The cursor does not fit.', undefined);
    await s.go('/runs?states=done');
    await s.until(() => {
      expect(s.one('[role=alert]').textContent).toContain('The cursor does not fit.');
    });
  });
});

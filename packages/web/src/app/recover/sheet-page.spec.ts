import { TestBed } from '@angular/core/testing';
import { provideRouter } from '@angular/router';
import type { RestorePlan } from '@lithodex/contract';
import { of, throwError } from 'rxjs';
import { beforeEach, describe, expect, it, vi } from 'vitest';
import { Api, ApiFailure } from '../data/api';
import { Picks } from '../data/picks';
import { Session } from '../data/session';
import { SheetPage } from './sheet-page';

const eventually = (check: () => void) => vi.waitFor(check, { timeout: 30_000 });

const plan: RestorePlan = {
  items: [
    {
      pick: { pointId: 'p1', path: 'plans/a.txt' },
      name: 'a.txt',
      kind: 'file',
      workload: 'quay-1',
      moment: 5,
      goesTo: '/srv/quay-1/plans/a.txt',
      size: 9,
      items: 1,
      suspect: false,
      workloadId: 3,
      workloadKind: 'files',
      disks: [],
    },
  ],
  total: { items: 1, files: 1, bytes: 9, picks: 1 },
  readFrom: [{ target: 'quay-disk', points: 1 }],
  price: { amount: 1.25, currency: 'EUR' },
  copies: [{ targetId: 't1', target: 'quay-disk', estimateMs: 1200, price: null, kind: 'folder' }],
  estimateMs: 1200,
  rate: 1e6,
  rateFrom: 'recent restores',
  checks: [{ code: 'ROOM', level: 'fine', text: 'Room: plenty.' }],
  existing: { looked: 1, exist: 0, newer: 0, complete: true },
  rescue: null,
  free: 1e9,
};

describe('the restore sheet', () => {
  const calls: { name: string; body: Record<string, unknown> }[] = [];
  let answer: Partial<RestorePlan> = {};
  let failure: ApiFailure | undefined;

  beforeEach(() => {
    calls.length = 0;
    answer = {};
    failure = undefined;
    sessionStorage.clear();
    const call = (name: string, options: { body: Record<string, unknown> }) => {
      calls.push({ name, body: options.body });
      if (name === 'planRestore') return failure ? throwError(() => failure) : of({ ...plan, ...answer });
      return of({ runId: 77 });
    };
    TestBed.configureTestingModule({
      providers: [
        provideRouter([{ path: '**', children: [] }]),
        { provide: Api, useValue: { call } },
        { provide: Session, useValue: { now: () => 10, zone: () => 'UTC', keeps: () => true } },
      ],
    });
    TestBed.inject(Picks).add([{ pointId: 'p1', path: 'plans/a.txt', workload: 'quay-1', moment: 5, kind: 'file', size: 9 }]);
  });

  async function open() {
    const fixture = TestBed.createComponent(SheetPage);
    await fixture.whenStable();
    await eventually(() => {
      expect(calls.some((c) => c.name === 'planRestore')).toBe(true);
    });
    await fixture.whenStable();
    const el = fixture.nativeElement as HTMLElement;
    const start = () => [...el.querySelectorAll('button')].find((b) => b.textContent.trim().startsWith('Start'))!;
    const why = async (text: string) => {
      const box = el.querySelector<HTMLInputElement>('.why input')!;
      box.value = text;
      box.dispatchEvent(new Event('input'));
      await fixture.whenStable();
    };
    return { el, fixture, start, why };
  }

  it('never replaces by default and waits for a reason', async () => {
    const { el, start, why } = await open();
    expect(calls[0]?.body).toMatchObject({ rule: 'leave', destination: { to: 'original' } });
    expect(start().disabled).toBe(true);
    expect(el.textContent).toContain('when you say why');
    await why('asked for by the berth office');
    expect(start().disabled).toBe(false);
    start().click();
    expect(calls.at(-1)).toMatchObject({ name: 'startRestore', body: { reason: 'asked for by the berth office', trial: false } });
    expect(TestBed.inject(Picks).items()).toEqual([]);
  });

  it('lets a person choose which copy is read, where there is a choice', async () => {
    const none = await open();
    expect(none.el.textContent).not.toContain('Read it from');
    answer = {
      copies: [
        { targetId: 't1', target: 'quay-disk', estimateMs: 90_000, price: null, kind: 'folder' },
        { targetId: 't2', target: 'north-store', estimateMs: null, price: { amount: 3, currency: 'EUR' }, kind: 'cartridges' },
      ],
    };
    const { el, fixture } = await open();
    await eventually(() => {
      expect(el.textContent).toContain('Read it from');
    });
    el.querySelector<HTMLButtonElement>('[aria-label^="copy:"]')!.click();
    await fixture.whenStable();
    const choice = [...document.querySelectorAll<HTMLButtonElement>('.menu.show button')].find((b) =>
      b.textContent.includes('north-store'),
    );
    expect(choice!.textContent).toMatch(/not known yet, .*3.* at most, cartridges may have to be fetched/);
    choice!.click();
    await eventually(() => {
      expect(calls.at(-1)).toMatchObject({ name: 'planRestore', body: { readFrom: 't2' } });
    });
  });

  it('asks where a check needs a person, and starts only after the answer', async () => {
    answer = { checks: [{ code: 'REPLACED', level: 'look', text: 'Would replace 2 files that are newer.' }] };
    const { el, fixture, start, why } = await open();
    await why('because');
    expect(start().disabled).toBe(true);
    expect(el.textContent).toContain('after 1 answer');
    [...el.querySelectorAll('button')].find((b) => b.textContent.trim() === 'Agree')!.click();
    await fixture.whenStable();
    expect(start().disabled).toBe(false);
  });

  it('does not start where something stands in the way', async () => {
    answer = { checks: [{ code: 'NO_ROOM', level: 'stop', text: 'Not enough room.' }] };
    const { el, start, why } = await open();
    await why('because');
    expect(start().disabled).toBe(true);
    expect(el.textContent).toContain('when nothing stands in the way');
  });

  it('brings what is infected back only where somebody says so', async () => {
    answer = { checks: [{ code: 'INFECTED', level: 'stop', text: 'Two items among these are infected.' }] };
    const { el, fixture, start, why } = await open();
    await why('because');
    expect(start().disabled).toBe(true);
    [...el.querySelectorAll('button')].find((b) => b.textContent.trim().startsWith('Bring what is infected'))!.click();
    await fixture.whenStable();
    await eventually(() => {
      expect(calls.at(-1)).toMatchObject({ name: 'planRestore', body: { despiteInfected: true } });
    });
  });

  it('lets data leave its place only where somebody agrees, once', async () => {
    answer = { checks: [{ code: 'LEAVES_PLACE', level: 'stop', text: 'gate-01 leaves the office for the fjord.' }] };
    const { el, fixture, start, why } = await open();
    await why('because');
    expect(start().disabled).toBe(true);
    answer = { checks: [{ code: 'LEAVES_PLACE', level: 'look', text: 'gate-01 leaves the office for the fjord.' }] };
    [...el.querySelectorAll('button')].find((b) => b.textContent.trim().startsWith('Agree that'))!.click();
    await fixture.whenStable();
    await eventually(() => {
      expect(calls.at(-1)).toMatchObject({ name: 'planRestore', body: { leavesPlace: true } });
    });
    await fixture.whenStable();
    expect(start().disabled).toBe(false);
  });

  it('keeps an error where it happened', async () => {
    failure = new ApiFailure('POINT_GONE', 'The point has expired or was removed.', undefined);
    const { el } = await open();
    expect(el.querySelector('.problem')?.textContent).toContain('The point has expired');
  });

  it('tries without writing, with the picks kept', async () => {
    const { el } = await open();
    [...el.querySelectorAll('button')].find((b) => b.textContent.trim() === 'Try without writing')!.click();
    expect(calls.at(-1)).toMatchObject({ name: 'startRestore', body: { trial: true } });
    expect(TestBed.inject(Picks).items()).toHaveLength(1);
  });

  it('offers a machine that runs, a folder or a device for what lies inside a disk, and lets a disk be attached', async () => {
    answer = { items: [{ ...plan.items[0]!, pick: { pointId: 'p1', path: 'disks/a.raw/p2' }, kind: 'folder', workloadKind: 'machine' }] };
    TestBed.inject(Picks).clear();
    TestBed.inject(Picks).add([{ pointId: 'p1', path: 'disks/a.raw/p2', workload: 'gate-01', moment: 5, kind: 'folder', size: 0 }]);
    const { el: element, fixture } = await open();
    await eventually(() => {
      expect(element.querySelector('.sentence')?.textContent).toContain('where they were, inside the machine while it runs');
    });
    element.querySelector<HTMLButtonElement>('[aria-label^="destination:"]')!.click();
    await fixture.whenStable();
    [...document.querySelectorAll<HTMLButtonElement>('.menu.show button')].find((b) => b.textContent.includes('a block device'))!.click();
    await eventually(() => {
      expect(calls.at(-1)).toMatchObject({ name: 'planRestore', body: { destination: { to: 'attached', hours: 8 } } });
    });
    await eventually(() => {
      expect(element.querySelector('.act.go')?.textContent.trim()).toBe('Attach');
    });
    expect(element.querySelector('.facts')).toBeNull();
  });
});
